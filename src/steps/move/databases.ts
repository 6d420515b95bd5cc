import { textOf } from '../../core/bytes.js';
import {
  type DatabasePlace,
  readDatabaseUrl,
  type ServerPlace,
  serverNamed,
} from '../../core/database/place.js';
import { UsageError } from '../../core/errors.js';
import type { Facts } from '../../core/site/configuration/source/facts.js';
import type { DatabaseWay } from '../../ends/database/server/session.js';
import { openFiles, sessionOf } from '../../ends/files/place.js';
import type { SshSession } from '../../ends/ssh/session.js';
import type { Move } from './open.js';
import { lookAtSite, type Site, treeOf } from './read-site.js';

/** The database that the old site uses, as its configuration or the sheet says. */
export interface OldDatabase {
  readonly way: DatabaseWay;
  /** The character set in which the site speaks to its server. */
  readonly charset: string | undefined;
}

/** @throws UsageError where the sheet asks for what the configuration does not say, or for a way that is not there */
export async function oldDatabaseOf(move: Move, known?: Site): Promise<OldDatabase> {
  const asked = move.sheet.old.database;
  const site =
    known ??
    (move.sheet.old.files ? await lookAtSite(treeOf(openFiles(move.oldPlace!)), move.oldAddress) : undefined);
  const facts = site?.facts;
  const charset = textIn(facts, 'charset');
  const through = sshOf(move, 'old', asked?.through === 'files');
  if (asked?.server !== undefined)
    return { way: { place: placeIn(asked.server, asked.password, 'old.database.server'), through }, charset };
  if (!site || !facts) {
    throw new UsageError({
      doing: 'Finding the old database',
      cause: 'old.database.from asks for the configuration, and none can be read',
      remedy: 'Give old.files, or name the database itself in old.database.server',
    });
  }
  return { way: { place: configured(site), through: through ?? sshOf(move, 'old', false, true) }, charset };
}

/** The database at the new end; undefined where the sheet names none or no password for it. */
export function newDatabaseOf(move: Move): DatabaseWay | undefined {
  const asked = move.sheet.new.database;
  if (!asked?.server || asked.password === undefined) return undefined;
  const place = placeIn(asked.server, asked.password, 'new.database.server');
  return { place, through: sshOf(move, 'new', asked.through === 'files') };
}

/** The server of the new database, opened with an administrator's credentials, where the sheet gives them. */
export function newAdministratorOf(move: Move): DatabaseWay | undefined {
  const asked = move.sheet.new.database;
  if (!asked?.server || !asked.administrator) return undefined;
  const { user, password } = asked.administrator;
  const place = { ...placeIn(asked.server, password ?? '', 'new.database.server'), user, name: '' };
  return { place, through: sshOf(move, 'new', asked.through === 'files') };
}

function placeIn(server: string, password: string | undefined, key: string): DatabasePlace {
  const place = readDatabaseUrl(server);
  if (place?.name && place.user) return { ...place, password: password ?? place.password };
  throw new UsageError({
    doing: `Reading ${key}`,
    cause: 'it names no user or no database',
    remedy: 'Write mysql://user@host:port/name; % escapes what a URL cannot hold',
  });
}

/** The database that a configuration names. */
function configured({ facts, configuration, family }: Site): DatabasePlace {
  const missing = (['name', 'user', 'password'] as const).filter(fact => textIn(facts, fact) === undefined);
  if (missing.length > 0) {
    throw new UsageError({
      doing: `Finding the old database in ${configuration}`,
      cause: `its ${missing.join(', ')} cannot be read there (a ${family.name} site may work it out when it runs)`,
      remedy: 'Name it in the sheet: old.database.server and old.database.password',
    });
  }
  return {
    ...serverOf(facts),
    name: textIn(facts, 'name')!,
    user: textIn(facts, 'user')!,
    password: textIn(facts, 'password')!,
  };
}

function serverOf(facts: Facts | undefined): ServerPlace {
  return serverNamed(textIn(facts, 'host') ?? 'localhost', textIn(facts, 'port'));
}

function textIn(facts: Facts | undefined, fact: keyof Facts & string): string | undefined {
  const value = (facts as Record<string, { value?: string } | undefined> | undefined)?.[fact]?.value;
  return value === undefined ? undefined : textOf(value);
}

/**
 * The SSH account of an end's files, when the database is reached by way of it.
 * @param onlyIfThere do without it where the files are reached otherwise
 */
function sshOf(move: Move, end: 'old' | 'new', wanted: boolean, onlyIfThere = false): SshSession | undefined {
  if (!wanted && !onlyIfThere) return undefined;
  const place = end === 'old' ? move.oldPlace : move.newFiles;
  const session = place === undefined ? undefined : sessionOf(place);
  if (session) return session;
  if (onlyIfThere && !place?.startsWith('ftp')) return undefined;
  throw new UsageError({
    doing: `Finding a way to the ${end} database`,
    cause: `${end}.files is not reached by sftp://, so nothing goes through it`,
    remedy:
      'Name the database straight (server: mysql://…, without through), or take a dump in the host’s panel and name it (dump: old.sql.gz)',
  });
}

import { createHash, randomBytes } from 'node:crypto';
import { shownDatabase } from '../../../core/database/place.js';
import { EndError, UsageError } from '../../../core/errors.js';
import { quoteName, quoteText } from '../../../core/sql/column.js';
import { missingAbilities } from '../../../ends/database/server/abilities.js';
import { bytes } from '../../../ends/database/server/catalog.js';
import {
  DatabaseSession,
  type DatabaseWay,
  refusalKindOf,
  type ServerSaid,
  withDatabase,
} from '../../../ends/database/server/session.js';
import { writeSecret } from '../../../ends/move-folder/move-folder.js';
import { newAdministratorOf, newDatabaseOf } from '../../move/databases.js';
import type { Move } from '../../move/open.js';
import type { StepRun } from '../../move/step.js';

/** Under which name a password that was made is kept in `.env`. */
const secretName = 'NEW_DB_PASSWORD';

/**
 * Sees to it that the new database is there and that its user may do what a load needs. What is missing is made with
 * the administrator's credentials where the sheet gives them.
 * @returns what was made
 * @throws EndError where it is not there and cannot be made, with what to do by hand
 */
export async function makeRoom(run: StepRun): Promise<string[]> {
  const way = newDatabaseOf(run.move);
  if (!way) return [];
  const made: string[] = [];
  const administrator = newAdministratorOf(run.move);
  const refusal = await refusalOf(way);
  if (refusal) {
    if (!administrator || refusal.kind === 'unreachable' || refusal.kind === 'refused')
      throw withHelp(refusal.error, way, refusal.kind, await likeNames(way));
    made.push(...(await withDatabase(administrator, session => make(session, way))));
  }
  const missing = await withDatabase(way, missingAbilities);
  if (missing.length > 0) {
    throw new EndError({
      doing: `Trying what a load needs in ${shownDatabase(way.place)}`,
      cause: `the user may not ${missing.join(', ')}`,
      remedy: `As the server's administrator: ${grantTo(way, "'%'")}; or tick all rights for this user in the panel`,
    });
  }
  return made;
}

/** A password for a user that is to be made, where the sheet leaves it to us. It goes to `.env` and nowhere else. */
export async function ensurePassword(move: Move): Promise<void> {
  const { database } = move.sheet.new;
  if (!database?.administrator || database.password !== undefined) return;
  const password = randomBytes(24).toString('base64url');
  await writeSecret(move.folder.at('.env'), secretName, password);
  database.password = password;
}

async function make(session: DatabaseSession, { place }: DatabaseWay): Promise<string[]> {
  const made: string[] = [];
  const isMariaDb = /mariadb/i.test((await session.value('SELECT VERSION()')) ?? '');
  refuseLongNames(place, isMariaDb);
  const [[user = ''] = []] = await session.rows('SELECT CURRENT_USER()');
  // Who is let in from where the administrator is, is let in as the site's user.
  const host = quoteText(user!.slice(user!.lastIndexOf('@') + 1));
  const account = `${bytes(quoteText(place.user))}@${host}`;
  const there = await session.rows(
    `SHOW DATABASES LIKE ${bytes(quoteText(place.name.replace(/[_%]/g, '\\$&')))}`,
  );
  if (there.length === 0) {
    await session.run(`CREATE DATABASE ${bytes(quoteName(place.name))} CHARACTER SET utf8mb4`);
    made.push(`the database ${place.name}`);
  }
  try {
    await session.run(`CREATE USER ${account} IDENTIFIED ${secretOf(place.password, isMariaDb)}`);
    made.push(`the user ${place.user}`);
  } catch (error) {
    // One that is there keeps the password that it has; others may use it.
    if ((error as ServerSaid).errno !== 1396) throw withoutPassword(error as ServerSaid);
  }
  await session.run(`GRANT ALL PRIVILEGES ON ${grantedName(place.name)}.* TO ${account}`);
  made.push(`all rights of ${place.user} on ${place.name}`);
  return made;
}

/**
 * A password as a server takes it; where it takes one that was hashed already, its own logs and its list of processes do
 * not show it (https://mariadb.com/kb/en/create-user/).
 */
function secretOf(password: string, isMariaDb: boolean): string {
  if (!isMariaDb || password === '') return `BY ${bytes(quoteText(password))}`;
  const sha1 = (of: string | Buffer) => createHash('sha1').update(of).digest();
  return `BY PASSWORD '*${sha1(sha1(password)).toString('hex').toUpperCase()}'`;
}

/** https://mariadb.com/kb/en/identifier-names/, https://dev.mysql.com/doc/refman/8.0/en/identifier-length.html */
function refuseLongNames({ name, user }: DatabaseWay['place'], isMariaDb: boolean): void {
  const longest = { database: 64, user: isMariaDb ? 80 : 32 };
  for (const [what, text] of [
    ['database', name],
    ['user', user],
  ] as const) {
    if ([...text].length <= longest[what]) continue;
    throw new UsageError({
      doing: 'Making room for the new database',
      cause: `the name of the ${what} is longer than the server takes (${longest[what]} characters)`,
      remedy: 'Give it a shorter one in new.database.server',
    });
  }
}

async function refusalOf(
  way: DatabaseWay,
): Promise<{ kind: ReturnType<typeof refusalKindOf>; error: EndError } | undefined> {
  try {
    const session = await DatabaseSession.open(way);
    await session.close();
    return undefined;
  } catch (error) {
    if (!(error instanceof EndError)) throw error;
    return { kind: refusalKindOf((error.cause ?? {}) as ServerSaid), error };
  }
}

/** What a person does where no administrator's credentials are given. */
export function roomByHand({ place }: DatabaseWay): string {
  return [
    `CREATE DATABASE ${quoteName(place.name)} CHARACTER SET utf8mb4`,
    `CREATE USER ${quoteText(place.user)}@'localhost' IDENTIFIED BY '…'`,
    `GRANT ALL PRIVILEGES ON ${grantedName(place.name)}.* TO ${quoteText(place.user)}@'localhost'`,
  ].join('; ');
}

function grantTo({ place }: DatabaseWay, host: string): string {
  return `GRANT ALL PRIVILEGES ON ${grantedName(place.name)}.* TO ${quoteText(place.user)}@${host}`;
}

/** In a GRANT, `_` and `%` stand for other characters unless they are escaped. */
function grantedName(name: string): string {
  return bytes(quoteName(name.replace(/[_%]/g, '\\$&')));
}

/** Databases that the user sees and whose names end as the one that is asked for: hosts put their own prefix before. */
async function likeNames({ place, through }: DatabaseWay): Promise<string[]> {
  try {
    const session = await DatabaseSession.open({ place: { ...place, name: '' }, through });
    try {
      const names = (await session.rows('SHOW DATABASES')).map(([name]) => name ?? '');
      return names.filter(name => name.endsWith(`_${place.name}`));
    } finally {
      await session.close();
    }
  } catch {
    return [];
  }
}

function withHelp(error: EndError, way: DatabaseWay, kind: string, alike: readonly string[]): EndError {
  if (kind !== 'no such database' && kind !== 'credentials') return error;
  if (alike.length > 0) {
    const remedy = `This user sees ${alike.join(' and ')}: the host has put its prefix before the name. Write it so in new.database.server`;
    return new EndError({ ...error.told, remedy }, { cause: error });
  }
  return new EndError(
    {
      ...error.told,
      remedy: `${kind === 'credentials' ? 'Check user and password. Where they are not made yet: ' : 'Make it '}in the host's panel (database, user, all rights; many hosts put their own prefix before both names), or as the server's administrator: ${roomByHand(way)}`,
    },
    { cause: error },
  );
}

/** A server quotes the statement that it does not understand, and a password may stand in it. */
function withoutPassword(error: ServerSaid): EndError {
  return new EndError({
    doing: 'Making the user of the new database',
    cause: `the server refuses (${error.code ?? 'no code'})`,
    remedy: 'Its rules for passwords may ask for more: give new.database.password yourself',
  });
}

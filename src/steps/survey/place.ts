import { randomBytes } from 'node:crypto';
import { asBytes, textOf } from '../../core/bytes.js';
import { shownDatabase } from '../../core/database/place.js';
import type { Finding } from '../../core/findings.js';
import type { Family } from '../../core/site/families/family.js';
import { probeSource, readProbe, type SeenLanguage } from '../../core/site/survey/probe.js';
import { missingAbilities } from '../../ends/database/server/abilities.js';
import { isRefusal, lookAtServer, type SeenServer } from '../../ends/database/server/probe.js';
import { withDatabase } from '../../ends/database/server/session.js';
import { openAbove, openFiles, placeAbove, placeBelow } from '../../ends/files/place.js';
import { type Trial, tryOut } from '../../ends/files/trial.js';
import { roomByHand } from '../deliver/database/provision.js';
import { topOf } from '../deliver/files/staging.js';
import { newDatabaseOf } from '../move/databases.js';
import type { Move } from '../move/open.js';
import { noteDone, type StepRun } from '../move/step.js';
import { siteAt, skewFindings } from './web.js';

/** What was seen of the new place for files. */
export interface NewPlace {
  readonly path: string;
  readonly trial: Trial;
  readonly freeBytes: number | undefined;
  readonly freeFiles: number | undefined;
  readonly runsCommands: boolean;
  /** What stands in the new folder already. */
  readonly standing: number;
  /** Whether a delivery of this move put it there. */
  readonly delivered: boolean;
}

/** Looks where the files would land, and tries there what a delivery will do. */
export async function surveyNewPlace(
  run: StepRun,
  family: Family | undefined,
  ours: ReadonlySet<string>,
): Promise<{ place: NewPlace | undefined; findings: Finding[] }> {
  const { newFiles } = run.move;
  const findings: Finding[] = [];
  if (!newFiles) return { place: undefined, findings };
  const above = openFiles(await standingFolder(placeAbove(newFiles)));
  const files = openFiles(newFiles);
  let trial = await tryOut(above, run.move.sheet.name, run.signal);
  if (!trial.writable && (await files.isThere())) {
    // Many hosts let an account write in its web root alone.
    trial = await tryOut(files, run.move.sheet.name, run.signal);
    if (trial.writable) findings.push(rootStays(newFiles));
  }
  const room = await above.room();
  const names: string[] = [];
  if (await files.isThere()) {
    for (const entry of await topOf(files)) names.push(textOf(entry.path));
  }
  const delivered = ours.has(newFiles);
  if (names.length > 0 && !delivered) findings.push(standingFinding(newFiles, names, family));
  const place: NewPlace = {
    path: newFiles,
    trial,
    freeBytes: room?.bytes,
    freeFiles: room?.files,
    runsCommands: await above.runsCommands(),
    standing: names.length,
    delivered,
  };
  return { place, findings };
}

/** What is said of a web root that stays where it is. */
export function rootStays(place: string): Finding {
  return {
    level: 'note',
    code: 'root-not-renamable',
    place,
    what: 'The web root itself cannot be renamed, so its files are put in place one by one, the index file last',
    remedy: 'Nothing needs to be done; for a moment old and new files stand side by side',
  };
}

function standingFinding(place: string, names: readonly string[], family: Family | undefined): Finding {
  const configuration = family?.configurations.find(path => names.includes(path));
  const some = names.slice(0, 3).join(', ') + (names.length > 3 ? ', …' : '');
  return {
    level: 'warn',
    code: configuration ? 'new-site-there' : 'new-folder-not-empty',
    place,
    what: configuration
      ? `Another site's configuration (${configuration}) and ${names.length - 1} more things stand in the new folder`
      : `${names.length} ${names.length === 1 ? 'thing stands' : 'things stand'} in the new folder already: ${some}`,
    remedy: 'Check that this is the right folder; deliver keeps what stands there as keepsake until tidy',
  };
}

/** The folder itself, or the nearest one above it that is there. */
export async function standingFolder(path: string): Promise<string> {
  for (let at = path; ; at = placeAbove(at)) {
    if (at === placeAbove(at) || (await openFiles(at).isThere())) return at;
  }
}

/**
 * Asks the language at the new host about itself by a short-lived file, which is taken away whatever happens. Only
 * where the sheet allows it.
 */
export async function probeLanguage(
  run: StepRun,
): Promise<{ language: SeenLanguage | undefined; findings: Finding[] }> {
  const { move } = run;
  const { sheet, newFiles, newAddress } = move;
  const findings: Finding[] = [];
  const site = siteAt(newAddress, sheet.new.reach);
  if (!sheet.new.probe || !site || !newFiles) return { language: undefined, findings };
  const files = openFiles(newFiles);
  if (!(await files.isThere())) return { language: undefined, findings };
  const name = asBytes(`able-porter-probe-${randomBytes(16).toString('hex')}.php`);
  const token = randomBytes(24).toString('hex');
  const place = placeBelow(newFiles, name);
  // Noted first, so that a run that is killed here leaves word of what to take away.
  await noteDone(run, 'survey', { probes: place });
  let body: string;
  try {
    await files.write(name, Buffer.from(probeSource(token)));
    ({ html: body } = await site.get(`/${name}`, run.signal, { 'x-probe-token': token }));
  } catch (error) {
    run.signal.throwIfAborted();
    findings.push(notProbed(sheet.new.reach ?? sheet.new.address, (error as Error).message));
    return { language: undefined, findings };
  } finally {
    await files.remove(name);
    await noteDone(run, 'survey', { probed: place });
  }
  const language = readProbe(body);
  if (language === 'source') {
    findings.push({
      level: 'stop',
      code: 'language-not-run',
      place: sheet.new.reach ?? sheet.new.address,
      what: 'The new web server shows PHP files as text instead of running them',
      remedy: 'Switch PHP on for this host before anything with a password goes there',
    });
    return { language: undefined, findings };
  }
  if (!language)
    findings.push(notProbed(sheet.new.reach ?? sheet.new.address, 'what came back was not its answer'));
  else
    findings.push(
      ...skewFindings(sheet.new.reach ?? sheet.new.address, Math.round(language.now - Date.now() / 1000)),
    );
  return { language, findings };
}

function notProbed(place: string, why: string): Finding {
  return {
    level: 'warn',
    code: 'language-not-asked',
    place,
    what: `The probe could not be asked: ${why}`,
    remedy: 'Check that new.files is the folder that new.reach serves',
  };
}

/** Takes away probes that a killed run left. */
export async function clearProbes(move: Move): Promise<void> {
  const journal = await move.folder.readJournal();
  const left = new Set(journal.flatMap(({ did }) => did?.probes ?? []));
  for (const { did } of journal) if (did?.probed) left.delete(did.probed);
  for (const place of left) {
    const { above, name } = openAbove(place);
    if (await above.isThere()) await above.remove(name);
  }
}

/** What the new database's server says, where one is named and answers. */
export async function surveyNewDatabase(
  move: Move,
  prefix: string | undefined,
  ours: ReadonlySet<string>,
): Promise<{ server: SeenServer | undefined; findings: Finding[] }> {
  const { database } = move.sheet.new;
  if (!database?.server) return { server: undefined, findings: [] };
  const place = database.server.replace(/\/\/[^@]*@/, '//');
  const tell = (level: Finding['level'], code: Finding['code'], what: string, remedy: string): Finding => ({
    level,
    code,
    place,
    what,
    remedy,
  });
  if (database.password === undefined) {
    return {
      server: undefined,
      findings: [
        tell(
          'note',
          'database-not-asked',
          'The new database was not asked: the sheet gives no password for it',
          'Add new.database.password: ${NEW_DB_PASSWORD}, and the password to .env',
        ),
      ],
    };
  }
  const way = newDatabaseOf(move)!;
  const looked = await lookAtServer(way);
  const willLoad = move.newLive && (move.oldLive || move.oldDump !== undefined);
  // Where rows will be loaded it is tried out; what the server lists may leave out roles.
  const seen =
    willLoad && !isRefusal(looked)
      ? { ...looked, missingRights: await withDatabase(way, missingAbilities) }
      : looked;
  const toBeMade = isRefusal(seen) && database.administrator && /no such|credentials/.test(seen.kind);
  if (toBeMade) {
    const what =
      'The new database or its user is not there yet; deliver makes them with the administrator’s credentials';
    return {
      server: undefined,
      findings: [tell('note', 'database-missing', what, 'Nothing needs to be done')],
    };
  }
  if (!isRefusal(seen)) return { server: seen, findings: serverFindings(move, seen, prefix, ours, tell) };
  const finding = {
    unreachable: tell(
      'note',
      'database-not-reached',
      `The new database cannot be reached from here (${seen.why}), so its credentials were not tried`,
      'Many hosts let only their own servers in; try the credentials in the host’s panel',
    ),
    credentials: tell(
      'stop',
      'database-credentials',
      `The new database refuses the user or the password (${seen.why})`,
      'Set the password anew in the host’s panel, and copy it to .env as it is, in single quotes',
    ),
    'no such database': tell(
      'stop',
      'database-missing',
      `The new database is not there, or this user may not open it (${seen.why})`,
      `Create it in the host’s panel and give the user all rights on it (many hosts put their own prefix before its name), or as the server’s administrator: ${roomByHand(way)}`,
    ),
    refused: tell(
      'stop',
      'database-refuses',
      `The new database server refuses: ${seen.why}`,
      'Ask the host what this means',
    ),
  }[seen.kind];
  return { server: undefined, findings: [finding] };
}

function serverFindings(
  move: Move,
  seen: SeenServer,
  prefix: string | undefined,
  ours: ReadonlySet<string>,
  tell: (level: Finding['level'], code: Finding['code'], what: string, remedy: string) => Finding,
): Finding[] {
  const findings = skewFindings('new.database', seen.skew);
  const wanted = move.sheet.new.database?.prefix ?? prefix ?? '';
  const same = seen.tables.filter(table => table.startsWith(wanted));
  // What stands there after a delivery is most likely its own.
  if (move.newDump !== undefined && ours.has(move.newDump)) return findings;
  const way = newDatabaseOf(move);
  if (way && ours.has(shownDatabase(way.place))) return findings;
  if (wanted !== '' && same.length > 0) {
    findings.push(
      tell(
        'warn',
        'database-tables-there',
        `${same.length} ${same.length === 1 ? 'table' : 'tables'} with the prefix "${wanted}" ${same.length === 1 ? 'stands' : 'stand'} in the new database already`,
        move.newLive
          ? 'Delivery keeps them in a dump beside the sheet and drops them; "undo" puts them back'
          : 'Loading the dump drops them; dump them first, or give new.database.prefix',
      ),
    );
  } else if (seen.tables.length > 0) {
    findings.push(
      tell(
        'note',
        'database-shared',
        `${seen.tables.length} tables of something else stand in the new database`,
        'The two get along as long as their prefixes differ',
      ),
    );
  }
  const { charset } = move.sheet.new.database ?? {};
  if (charset !== undefined && !seen.charsets.includes(charset)) {
    findings.push(
      tell(
        'stop',
        'charset-unknown',
        `The new server does not know the character set ${charset} of new.database.charset`,
        `It knows ${seen.charsets.slice(0, 8).join(', ')}`,
      ),
    );
  }
  return findings;
}

import { access, readdir, rm } from 'node:fs/promises';
import { archiveName } from '../core/files/archive-names.js';
import { type Finding, finding } from '../core/findings/findings.js';
import { counted } from '../core/text/numbers.js';
import { thawOldSite } from './cutover/freeze.js';
import { removeMarkers } from './cutover/markers.js';
import { ownTablesThere } from './deliver/database/restore.js';
import { clearFolders } from './deliver/files/own-folder.js';
import { clearBeside, type Remains, remainsOf } from './deliver/files/restore.js';
import { settleExchanges } from './deliver/files/swap.js';
import { newDatabaseOf } from './move/databases.js';
import { type Ledger, ledgerOf } from './move/ledger.js';
import { refuseClosed } from './move/life.js';
import type { Move } from './move/open.js';
import { doStep, type FindingLog, type StepOutcome, type StepRun } from './move/step.js';
import { writeFinalRedirects } from './redirects/files.js';
import { putRedirects } from './redirects/placing.js';
import { clearProbes } from './survey/probe.js';
import { type Proven, proveGone } from './tidy/proof.js';
import { leftToDo } from './tidy/to-do.js';

export interface TidyResult {
  readonly removed: readonly string[];
  /** What was looked for afterwards, and whether something of the move was found. */
  readonly proven: readonly Proven[];
  /** What a person does after a move, in order. */
  readonly remember: readonly string[];
  /** What of the move remains on this machine. */
  readonly left: readonly string[];
  /** The file whose redirects were temporary and are permanent now. */
  readonly permanent: string | undefined;
}

/** What a person accepts by name. */
export interface TidyOptions {
  /** Although the check stopped, or was never made. */
  readonly unchecked: boolean;
  /** Although the DNS was not switched. */
  readonly notSwitched: boolean;
}

interface Plan {
  readonly remains: readonly Remains[];
  readonly tables: readonly string[];
  /** Of the move folder. */
  readonly folders: readonly string[];
  readonly paths: readonly string[];
  /** The file of temporary redirects that become permanent. */
  readonly redirects: string | undefined;
}

/** What `tidy` would do now: remove keepsakes and half-done things at the new end, and the crate; make redirects permanent. */
export async function planTidy(
  move: Move,
): Promise<{ readonly paths: readonly string[]; readonly redirects: string | undefined }> {
  return planOf(move);
}

async function planOf(move: Move): Promise<Plan> {
  const ledger = await ledgerOf(move);
  const remains = await remainsOf(move, ledger);
  const tables = await tablesOf(move, ledger);
  const names = await readdir(move.folder.folder);
  const own = ['crate', 'crate.incoming', 'collect', 'fetch', 'store', 'keepsake', 'state'].map(name =>
    move.folder.at(name),
  );
  const archives = names
    .filter(name => name.startsWith(archiveName(move.sheet.name)))
    .map(name => move.folder.at(name));
  const folders: string[] = [];
  for (const path of [...own, ...archives]) if (await isThere(path)) folders.push(path);
  const paths = [
    ...remains.flatMap(({ keepsake, scraps, staging, later, place }) => [
      ...(keepsake === undefined ? [] : [keepsake]),
      ...scraps,
      ...later.map(number => `keepsake ${number} of ${place} (${staging.folder.text})`),
    ]),
    ...(tables.length > 0 ? [`${counted(tables.length, 'table')} of our own in the new database`] : []),
    ...folders,
  ];
  const redirects = move.sheet.redirects.first === 'temporary' ? ledger.redirects : undefined;
  return { remains, tables, folders, paths, redirects };
}

async function tablesOf(move: Move, ledger: Ledger): Promise<string[]> {
  if (!move.newLive || (ledger.loaded.size === 0 && ledger.keepsakes.size === 0)) return [];
  const database = newDatabaseOf(move);
  return database ? database.use(connection => ownTablesThere(move, connection)) : [];
}

function isThere(path: string): Promise<boolean> {
  return access(path).then(
    () => true,
    () => false,
  );
}

/** Removes what the move left behind, looks whether anything is left, and closes the move. */
export async function tidy(
  run: StepRun,
  options: TidyOptions = { unchecked: false, notSwitched: false },
): Promise<StepOutcome<TidyResult>> {
  const { move } = run;
  await refuseClosed(move, 'Tidying');
  await settleExchanges(run);
  const ledger = await ledgerOf(move);
  const { remains, tables, folders, paths, redirects } = await planOf(move);
  return doStep({ ...run, again: true }, 'tidy', { paths }, async findings => {
    findings.add(...preconditions(move, ledger, options));
    const remember = await leftToDo(run, ledger);
    if (findings.stops)
      return { result: { removed: [], proven: [], remember, left: [], permanent: undefined }, brief: {} };
    if (move.sheet.redirects.first === 'temporary') await writeFinalRedirects(move);
    if (redirects !== undefined) findings.add(...(await putRedirects(run, true)).findings);
    const permanent = findings.stops ? undefined : redirects;
    for (const one of remains) await clearBeside(one);
    await clearFolders(move);
    await dropTables(move, tables);
    await clearProbes(move);
    await removeMarkers(run);
    await thawOldSite(run);
    const proven = await proveGone(run, ledger);
    findings.add(...remainsFindings(proven));
    // What is not gone may still be needed to find it again.
    if (!findings.stops) await removeFolders(folders, findings);
    const left = await leftHere(move);
    return { result: { removed: paths, proven, remember, left, permanent }, brief: { removed: paths } };
  });
}

/** Why it is too early to take the way back away. */
function preconditions(move: Move, ledger: Ledger, { unchecked, notSwitched }: TidyOptions): Finding[] {
  const findings: Finding[] = [];
  const isDelivered = ledger.delivered.size > 0 || ledger.loaded.size > 0;
  if (!isDelivered) return findings;
  const { state, record } = ledger.stateOf('check');
  const delivered = ledger.stateOf('deliver').record?.at ?? '';
  const isOld = (record?.at ?? '') < delivered;
  if (!unchecked && (state !== 'done' || isOld)) {
    const why =
      state === 'stopped'
        ? 'the check stopped'
        : state === 'done'
          ? 'the last check is older than the delivery'
          : 'the new site was not checked';
    findings.push(
      finding({
        level: 'stop',
        code: 'tidy-unchecked',
        place: move.sheet.new.address,
        what: `Nothing was removed: ${why}, and after it there is no way back`,
        remedy: 'Run "able-porter check" and put right what it finds, or tidy with --unchecked',
      }),
    );
  }
  if (!notSwitched && move.sheet.dns?.['address-records'] && ledger.life !== 'live') {
    findings.push(
      finding({
        level: 'stop',
        code: 'tidy-not-switched',
        place: move.sheet.new.address,
        what: 'Nothing was removed: a cutover is planned, and nobody has said that the DNS was switched',
        remedy:
          'After the switch say so with "able-porter cutover switch --by-hand", or tidy with --not-switched',
      }),
    );
  }
  return findings;
}

async function dropTables(move: Move, tables: readonly string[]): Promise<void> {
  if (tables.length === 0) return;
  await newDatabaseOf(move)!.use(connection =>
    connection.drop(tables.map(name => ({ kind: 'table', name }))),
  );
}

function remainsFindings(proven: readonly Proven[]): Finding[] {
  return proven
    .filter(({ found }) => found.length > 0)
    .map(({ what, found }) =>
      finding({
        level: 'stop',
        code: 'tidy-remains',
        place: found[0]!,
        what: `Something of the move is still there (${what}): ${found.slice(0, 4).join(', ')}`,
        remedy: 'Remove it by hand, then run "able-porter tidy" again',
      }),
    );
}

async function removeFolders(folders: readonly string[], findings: FindingLog): Promise<void> {
  for (const path of folders) await rm(path, { recursive: true, force: true });
  for (const path of folders)
    if (await isThere(path)) findings.add(...remainsFindings([{ what: 'this machine', found: [path] }]));
}

/** What of the move remains on this machine. */
async function leftHere({ folder }: Move): Promise<string[]> {
  return (await readdir(folder.folder)).sort().map(name => folder.at(name));
}

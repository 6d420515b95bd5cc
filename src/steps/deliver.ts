import { asBytes, textOf } from '../core/bytes.js';
import { DamageError, UsageError } from '../core/errors.js';
import type { FileEntry } from '../core/files/entries.js';
import type { Finding } from '../core/findings.js';
import { digestOf, stateOf, traceOfSecret } from '../core/journal.js';
import { familyNamed } from '../core/site/families.js';
import type { Crate, CratePart } from '../ends/crate.js';
import type { FilesEnd } from '../ends/files/files-end.js';
import { openFiles, placeBelow } from '../ends/files/place.js';
import { inTurns } from '../ends/in-turns.js';
import { alreadyThere, carry, removeOthers, type Way } from './carry.js';
import type { Configured } from './configure.js';
import { rulesOf } from './move.js';
import { movedDump, movedFiles, type RewriteResult, rewriteInputs } from './rewrite.js';
import { doStep, readResult, type StepOutcome, type StepRun } from './run.js';
import { fittedOf, layAbove, layFile, planFromCrate, traceOfSetUp } from './set-up.js';
import { openIncoming, pathIn, type Spot, spotOf, swapIn } from './spots.js';

export interface DeliverResult {
  readonly files:
    | {
        readonly place: string;
        readonly count: number;
        readonly bytes: number;
        readonly again: number;
        readonly way: Way | undefined;
      }
    | undefined;
  readonly dump: { readonly file: string; readonly bytes: number } | undefined;
  readonly configuration: Configured | undefined;
  /** Files of the web server that were fitted to the new path or address. */
  readonly fitted: readonly string[];
  /** How often each of the sheet's own edits was carried out. */
  readonly edits: readonly number[];
  /** Where what stood at the new end is kept. */
  readonly keepsakes: readonly string[];
}

/**
 * Puts files, configuration and the finished dump at the new end. All of it is first made ready beside its final
 * place and then put there by renaming; what stood there becomes the keepsake.
 */
export async function deliver(run: StepRun): Promise<StepOutcome<DeliverResult>> {
  const { move } = run;
  const { crate } = move;
  if (!move.newFiles && !move.newDump) {
    throw new UsageError({
      doing: 'Delivering the crate',
      cause: 'the sheet names no place at the new end',
      remedy: 'Give new.files, new.database.dump, or both',
    });
  }
  const manifest = await crate.manifest();
  const family = familyNamed(manifest.from.family);
  const moved = manifest.tables.length > 0 && move.newDump ? await movedPart(run) : undefined;
  return doStep(run, 'deliver', await deliverInputs(run), async () => {
    const findings: Finding[] = [];
    const keepsakes: string[] = [];
    const ready: Spot[] = [];
    let files: DeliverResult['files'];
    let configuration: Configured | undefined;
    let fitted: string[] = [];
    let edits: readonly number[] = [];
    let trace: Record<string, string> = {};
    if (move.newFiles && manifest.counts.files + manifest.counts.folders > 0) {
      const spot = spotOf(move, move.newFiles);
      const incoming = openIncoming(spot);
      await crate.verifyPart('files.ndjson', manifest.parts['files.ndjson']!);
      files = await makeReady(run, spot, incoming, findings);
      const setUp = await planFromCrate(move, family, manifest);
      for (const file of setUp.files) {
        if (!file.path.startsWith('../')) await layFile(incoming, asBytes(file.path), file);
      }
      ready.push(...(await layAbove(move, setUp.files)), spot);
      configuration =
        setUp.configuration === undefined
          ? undefined
          : { file: placeBelow(move.newFiles, setUp.configuration), changed: setUp.changed };
      fitted = fittedOf(setUp);
      edits = setUp.edits;
      trace = traceOfSetUp(setUp);
      findings.push(...setUp.findings);
    }
    if (moved && move.newDump) {
      const spot = spotOf(move, move.newDump);
      await layDump(run, crate, spot, moved);
      ready.push(spot);
    }
    // Everything is ready; from here on it is a matter of renaming.
    run.signal.throwIfAborted();
    for (const spot of ready) keepsakes.push(...(await swapIn(run, spot)));
    const result: DeliverResult = {
      files: files && { ...files, place: move.newFiles! },
      dump: moved && { file: move.newDump!, bytes: moved.bytes },
      configuration,
      fitted,
      edits,
      keepsakes,
    };
    return { result, findings, brief: { files: files?.count, dump: moved?.sha256, keepsakes, setUp: trace } };
  });
}

/** What a delivery depends on. */
export async function deliverInputs({ move }: StepRun): Promise<unknown> {
  const { crate } = move;
  const { database } = move.sheet.new;
  return {
    crate: await crate.identity(),
    moved: move.newDump && (await crate.partIdentity(movedDump)),
    movedFiles: await crate
      .entries(movedFiles)
      .then(entries => entries.map(({ path, sha256 }) => [path, sha256])),
    files: move.newFiles,
    dump: move.newDump,
    database: database && {
      server: database.server,
      prefix: database.prefix,
      secret: traceOfSecret(database.password),
    },
    charset: database?.charset,
    pairs: rulesOf(move).pairs,
    configure: move.sheet.configure,
  };
}

/**
 * The rewritten dump of the crate, checked against what the rewriting noted.
 * @throws UsageError where it was not rewritten, or the crate or the sheet has changed since
 */
async function movedPart(run: StepRun): Promise<CratePart> {
  const { crate, folder } = run.move;
  const { state, record } = stateOf(await folder.readJournal(), 'rewrite');
  const part = (await readResult<RewriteResult>(folder, 'rewrite'))?.result.moved;
  const refuse = (cause: string) =>
    new UsageError({ doing: 'Delivering the crate', cause, remedy: 'Run "able-porter rewrite" first' });
  if (state !== 'done' || !part) throw refuse('its dump has not been rewritten yet');
  if (record?.inputs !== digestOf(await rewriteInputs(run))) {
    throw refuse('the crate or the sheet has changed since its dump was rewritten');
  }
  await crate.verifyPart(movedDump, part);
  return part;
}

/** Fills the incoming folder with the crate's files, rewritten ones in place of those taken, each checked. */
async function makeReady(
  run: StepRun,
  spot: Spot,
  incoming: FilesEnd,
  findings: Finding[],
): Promise<NonNullable<DeliverResult['files']>> {
  const { crate } = run.move;
  const rewritten = new Map((await crate.entries(movedFiles)).map(entry => [entry.path, entry]));
  const all = await crate.entries();
  const entries = all.filter(
    entry => incoming.takesName(entry.path) && (entry.type !== 'link' || incoming.makesLinks),
  );
  findings.push(...notTaken(incoming, all));
  const bytes = entries.reduce((sum, entry) => sum + entry.size, 0);
  let done = 0;
  await spot.end.makeFolder(spot.incoming, 0o755);
  const there = await removeOthers(incoming, entries, run.signal);
  for (const entry of entries)
    if (entry.type === 'folder' && !there.has(entry.path)) await incoming.makeFolder(entry.path, entry.mode);
  const links = entries.filter(({ type, path, to }) => type === 'link' && there.get(path)?.to !== to);
  await inTurns(links, incoming.atOnce, run.signal, entry => incoming.makeLink(entry.path, entry.to!));
  const files = entries
    .filter(({ type }) => type === 'file')
    .map(entry => rewritten.get(entry.path) ?? entry);
  const whole = await alreadyThere(incoming, files, there, run.signal);
  const progress = (entry: FileEntry) => {
    done += entry.size;
    run.events({ type: 'progress', what: textOf(entry.path), done, of: bytes, unit: 'bytes' });
  };
  for (const entry of files) if (whole.has(entry.path)) progress(entry);
  const missing = files.filter(({ path }) => !whole.has(path));
  const own = missing.filter(({ path }) => rewritten.has(path));
  const taken = missing.filter(({ path }) => !rewritten.has(path));
  const first = await carry(crate.files, incoming, taken, run.signal, progress);
  const second = await carry(crate.movedFiles, incoming, own, run.signal, progress);
  for (const entry of missing) {
    if ((first.sums.get(entry.path) ?? second.sums.get(entry.path)) === entry.sha256) continue;
    throw new DamageError({
      doing: `Delivering ${textOf(entry.path)}`,
      cause: 'it is not what the crate says it should be',
      remedy: 'Pack again; what was changed by hand cannot be trusted to be whole',
    });
  }
  for (const entry of entries.filter(one => one.type === 'folder').reverse())
    await incoming.finishFolder(entry.path, entry);
  return { place: incoming.place, count: files.length, bytes, again: whole.size, way: first.way };
}

/** What of the crate the new end cannot hold. */
function notTaken(end: FilesEnd, entries: readonly FileEntry[]): Finding[] {
  const told = (
    code: Finding['code'],
    list: readonly FileEntry[],
    what: string,
    remedy: string,
  ): Finding[] =>
    list.length === 0
      ? []
      : [
          {
            level: 'warn',
            code,
            place: `${end.place}/${textOf(list[0]!.path)}`,
            what: `${list.length} ${what}`,
            remedy,
          },
        ];
  return [
    ...told(
      'name-not-taken',
      entries.filter(({ path }) => !end.takesName(path)),
      'names cannot be told to the new end and were left out',
      'Rename them at the old site, or use another protocol',
    ),
    ...told(
      'link-not-made',
      entries.filter(({ type }) => type === 'link' && !end.makesLinks),
      'symbolic links cannot be made over this protocol and were left out',
      'Use SFTP, or make copies of what they lead to',
    ),
  ];
}

async function layDump(run: StepRun, crate: Crate, spot: Spot, part: CratePart): Promise<void> {
  await spot.end.write(spot.incoming, openFiles(crate.folder).read(asBytes(movedDump)));
  run.signal.throwIfAborted();
  const sums = await spot.end.checksums([spot.incoming], run.signal);
  if (sums.get(spot.incoming) === part.sha256) return;
  throw new DamageError({
    doing: `Writing ${pathIn(spot, spot.incoming)}`,
    cause: 'it is not what was written',
    remedy: 'Check the disk, then run the command again',
  });
}

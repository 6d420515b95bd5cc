import { createTwoFilesPatch, FILE_HEADERS_ONLY } from 'diff';
import { addressPath, formatAddress } from '../../../core/address/address.js';
import { asBytes, type ByteString, bufferOf, textOf } from '../../../core/bytes.js';
import { UsageError } from '../../../core/errors.js';
import type { FileEntry } from '../../../core/files/entries.js';
import { type Finding, finding } from '../../../core/findings/findings.js';
import { maskedPair } from '../../../core/site/configuration/masking.js';
import {
  type Fact,
  type FactName,
  isSecret,
  oneFile,
} from '../../../core/site/configuration/source/facts.js';
import { familyNamed } from '../../../core/site/families/families.js';
import type { Family } from '../../../core/site/families/family.js';
import type { FilesEnd } from '../../../ends/files/files-end.js';
import type { FilesPlace } from '../../../ends/files/place.js';
import { sha256Of } from '../../../ends/files/sums.js';
import type { Crate, CrateManifest } from '../../../ends/move-folder/crate.js';
import { movedFiles } from '../../../ends/move-folder/crate.js';
import { newDatabasePlace } from '../../move/databases.js';
import { ledgerOf } from '../../move/ledger.js';
import type { Move } from '../../move/open.js';
import {
  entryAt,
  locate,
  lookAtSite,
  readAll,
  readConfiguration,
  readSmall,
  type SiteTree,
  treeOf,
} from '../../move/read-site.js';
import { doStep, noteDeed, type StepOutcome, type StepRun } from '../../move/step.js';
import { listKept } from '../files/kept-files.js';
import { clearFolders, clearOwnFolder, fetchableFindings } from '../files/own-folder.js';
import { beside, exists, isOwn, type StagingPaths, stagingOf } from '../files/staging.js';
import { openStaging, settleExchanges, swapIn } from '../files/swap.js';
import {
  type Configured,
  nothingToSetUp,
  planConfiguration,
  planServed,
  type SetUp,
  type SetUpFile,
} from './plan-configuration.js';

export interface SetUpResult {
  readonly configuration: Configured | undefined;
  /** Files that were written, and those that were removed, as paths at the new end. */
  readonly written: readonly string[];
  readonly removed: readonly string[];
  readonly keepsakes: readonly string[];
}

/** The difference that setting up would make to one file, as a unified diff without secrets. */
export interface Difference {
  readonly file: string;
  readonly diff: string;
}

/** The outcome of setting up the crate's files for the new end. */
export async function planFromCrate(move: Move, family: Family, manifest: CrateManifest): Promise<SetUp> {
  const { crate } = move;
  const tree: SiteTree = { files: crate.files, above: crate.above };
  const main = manifest.from.configuration ?? (await lookAtSite(tree, move.oldAddress)).configuration;
  const configured = await configurationFrom(move, family, tree, main);
  const rewritten = new Set<ByteString>();
  for await (const { path } of crate.entries(movedFiles)) rewritten.add(path);
  const setUp = await withServed(move, family, configured, withAbove(crate, crate.entries()), path =>
    readAt({ files: rewritten.has(path) ? crate.movedFiles : crate.files, above: crate.above }, path),
  );
  return { ...setUp, files: await asListed(crate, setUp.files) };
}

/** Entries of the crate, and those that it took from one folder above, as `../`. */
async function* withAbove(crate: Crate, entries: AsyncIterable<FileEntry>): AsyncIterable<FileEntry> {
  yield* entries;
  for await (const entry of crate.entries('above.ndjson'))
    yield { ...entry, path: asBytes(`../${entry.path}`) };
}

/** What is in a file of a site, or of the folder above it. */
function readAt(tree: SiteTree, path: ByteString): Promise<ByteString> {
  const at = locate(tree, path);
  return readAll(at.end, at.path);
}

/** Files with the modes that they had at the old site: in the crate they are for its owner alone. */
async function asListed(crate: Crate, files: readonly SetUpFile[]): Promise<SetUpFile[]> {
  const listed = new Map<string, FileEntry>();
  const wanted = new Set(files.map(({ path }) => path));
  for await (const entry of crate.entries()) if (wanted.has(entry.path)) listed.set(entry.path, entry);
  for await (const entry of crate.entries('above.ndjson')) listed.set(`../${entry.path}`, entry);
  return files.map(file => ({ ...file, like: file.like && (listed.get(file.path) ?? file.like) }));
}

/** The outcome of setting up for what is at the new end already, with the crate's server files as originals. */
async function planInPlace(run: StepRun): Promise<SetUp> {
  const { move } = run;
  const { crate } = move;
  const place = requiredPlace(move);
  const tree = treeOf(place);
  if (!(await tree.files.isThere())) {
    throw new UsageError({
      doing: `Setting up ${place}`,
      cause: 'it is not there',
      remedy: 'Run "able-porter deliver" first, or transfer the files there by hand',
    });
  }
  const manifest = (await crate.identity()) === undefined ? undefined : await crate.manifest();
  const site = await lookAtSite(tree, move.newAddress);
  const family = manifest ? familyNamed(manifest.from.family) : site.family;
  const oldTree: SiteTree = { files: crate.files, above: crate.above };
  const oldMain = manifest?.from.configuration;
  const oldFacts = oldMain && (await readConfiguration(oldTree, family, oldMain)).reading?.facts;
  const configured = site.configuration
    ? await planConfiguration(move, family, {
        tree,
        main: site.configuration,
        finalPlace: place.text,
        oldFacts: oldFacts || undefined,
      })
    : await configurationFrom(move, family, oldTree, oldMain);
  const entries = manifest
    ? withAbove(crate, crate.entries())
    : tree.files.list(({ path }) => isOwn(path), run.signal);
  const originals: SiteTree = manifest ? oldTree : tree;
  const setUp = await withServed(move, family, configured, entries, path =>
    readAt(path === site.configuration ? tree : originals, path),
  );
  const { setUp: last } = await ledgerOf(move);
  const planned = new Map(setUp.files.map(file => [file.path, file]));
  // What the sheet no longer asks for becomes what it was.
  for (const path of last.keys()) {
    if (planned.has(path) || setUp.configuration === path || configured.configurationFiles.includes(path))
      continue;
    if (site.files.sources.has(path)) continue;
    planned.set(path, {
      path,
      before: undefined,
      after: await readSmall(originals, path),
      like: await entryAt(originals, path),
    });
  }
  const files: SetUpFile[] = [];
  const findings = [...setUp.findings];
  for (const file of planned.values()) {
    const before = await readSmall(tree, file.path);
    if (before === file.after) continue;
    const isOurs = async () =>
      before === undefined ||
      configured.configurationFiles.includes(file.path) ||
      sha256Of(before) === last.get(file.path) ||
      before === (await readSmall(originals, file.path));
    if (await isOurs()) files.push({ ...file, before });
    else findings.push(changedByHand(place.below(textOf(file.path)).text));
  }
  return { ...setUp, files, findings };
}

function changedByHand(place: string): Finding {
  return finding({
    level: 'note',
    code: 'set-up-by-hand',
    place,
    what: 'Somebody changed this file at the new end; it is left as it is',
    remedy: 'Run "able-porter deliver --dry-run" to see what setting up would make of the original',
  });
}

/** What the journal keeps of files that were set up, so that changes by hand can be distinguished from ours. */
export function traceOfSetUp({ files }: SetUp): Record<string, string> {
  return Object.fromEntries(
    files.map(({ path, after }) => [path, after === undefined ? '' : sha256Of(after)]),
  );
}

async function configurationFrom(
  move: Move,
  family: Family,
  tree: SiteTree,
  main: string | undefined,
): Promise<SetUp> {
  if (main === undefined) return nothingToSetUp;
  return planConfiguration(move, family, { tree, main, finalPlace: requiredPlace(move).text });
}

async function withServed(
  move: Move,
  family: Family,
  configured: SetUp,
  entries: AsyncIterable<FileEntry>,
  read: (path: ByteString) => Promise<ByteString>,
): Promise<SetUp> {
  const place = requiredPlace(move);
  const served = await planServed(move, family, {
    configured: configured.files,
    read,
    entries,
    finalPlace: place.text,
  });
  const { files, edits, findings } = served;
  return { ...configured, files, edits, findings: [...configured.findings, ...findings] };
}

function requiredPlace({ newFiles }: Move): FilesPlace {
  if (newFiles !== undefined) return newFiles;
  throw new UsageError({
    doing: 'Setting up the new site',
    cause: 'the sheet names no folder for it',
    remedy: 'Give new.files',
  });
}

/** Configuration and server files alone, at a new end where the files stand already. Safe to repeat. */
export async function setUpInPlace(run: StepRun): Promise<StepOutcome<SetUpResult>> {
  const { move } = run;
  await settleExchanges(run);
  const plan = await planInPlace(run);
  const inputs = { files: plan.files.map(({ path }) => path), crate: await move.crate.identity() };
  return doStep({ ...run, again: true }, 'configure', inputs, async findings => {
    findings.add(...plan.findings);
    const keepsakes: string[] = [];
    const written: string[] = [];
    const removed: string[] = [];
    const ready: StagingPaths[] = [];
    const place = requiredPlace(move);
    const whole = await openStaging(run, place);
    await whole.end.remove(whole.incoming);
    findings.add(...(await fetchableFindings(run, whole.folder)));
    if (findings.stops) {
      await clearOwnFolder(move, whole.folder);
      return { result: { configuration: undefined, written, removed, keepsakes }, brief: {} };
    }
    const ledger = await ledgerOf(move);
    for (const file of plan.files) {
      const staging = stagingOf(move, place.below(textOf(file.path)), ledger);
      await staging.end.remove(staging.incoming);
      if (file.after !== undefined) await stageFile(staging.end, staging.incoming, file);
      ready.push(staging);
    }
    run.signal.throwIfAborted();
    await noteDeed(run, 'configure', { kind: 'set up', files: traceOfSetUp(plan) });
    for (const staging of ready) {
      const puts = await exists(staging, staging.incoming);
      keepsakes.push(...(await swapIn(run, staging, { puts })));
      (puts ? written : removed).push(staging.place.text);
    }
    await clearFolders(move);
    await listKept(run, 'configure');
    const configuration = plan.configuration && {
      file: place.below(plan.configuration).text,
      changed: plan.changed,
    };
    const result: SetUpResult = { configuration: configuration || undefined, written, removed, keepsakes };
    return { result, brief: { written, removed, setUp: traceOfSetUp(plan) } };
  });
}

/** What setting up would change at the new end, or in the crate's files before they go there. Writes nothing. */
export async function differences(run: StepRun, only: boolean): Promise<Difference[]> {
  const { move } = run;
  const place = requiredPlace(move);
  const manifest = only ? undefined : await move.crate.manifest();
  const plan = manifest
    ? await planFromCrate(move, familyNamed(manifest.from.family), manifest)
    : await planInPlace(run);
  const known = knownValues(move, manifest, plan.files);
  return plan.files.map(({ path, before, after }) => {
    const file = place.below(textOf(path)).text;
    const shown = maskedPair(path, before ?? asBytes(''), after ?? asBytes(''), known);
    const names = [
      before === undefined ? '/dev/null' : textOf(path),
      after === undefined ? '/dev/null' : file,
    ];
    const diff = createTwoFilesPatch(names[0]!, names[1]!, shown.before, shown.after, undefined, undefined, {
      context: 2,
      headerOptions: FILE_HEADERS_ONLY,
    });
    return { file, diff };
  });
}

/** Values of configurations that may be shown, for they are no secrets: names, hosts, addresses. */
function knownValues(
  move: Move,
  manifest: CrateManifest | undefined,
  files: readonly SetUpFile[],
): ReadonlySet<string> {
  const known = new Set<string>();
  const add = (text: string | undefined) => {
    if (text !== undefined && text !== '') known.add(text).add(`${text}/`);
  };
  for (const address of [move.oldAddress, move.newAddress]) {
    add(formatAddress(address));
    add(address.host);
    add(`.${address.host}`);
    add(addressPath(address));
  }
  const place = newDatabasePlace(move);
  for (const text of [place?.name, place?.user, place?.host, place && `${place.host}:${place.port}`])
    add(text);
  add(move.sheet.new.database?.prefix);
  add(manifest?.from.prefix);
  add(manifest?.from.charset);
  const family = familyNamed(manifest?.from.family ?? 'plain');
  for (const { path, before, after } of files)
    for (const source of [before, after]) {
      if (source === undefined) continue;
      const facts = family.readConfiguration(oneFile(path, source))?.facts ?? {};
      for (const [fact, found] of Object.entries(facts) as [FactName, Fact][])
        if (!isSecret(fact) && found.value !== undefined) add(textOf(found.value));
    }
  return known;
}

/** Writes a file as setting up wants it, or takes it away. */
export async function stageFile(end: FilesEnd, path: ByteString, { after, like }: SetUpFile): Promise<void> {
  if (after === undefined) return end.remove(path);
  await end.write(path, bufferOf(after), like);
}

/** A file that is ready beside its place one folder above the new site. */
interface StagedAbove {
  readonly staging: StagingPaths;
  /** Begins with `../`. */
  readonly path: string;
  /** Empty where the file goes. */
  readonly sha256: string;
}

/** Makes what was one folder above the old site ready beside its place above the new one. */
export async function stageAbove({ move }: StepRun, files: readonly SetUpFile[]): Promise<StagedAbove[]> {
  const all: StagedAbove[] = [];
  const changed = new Map(files.map(file => [file.path, file]));
  for await (const entry of move.crate.entries('above.ndjson')) {
    const staging = stagingOf(move, requiredPlace(move).above.below(textOf(entry.path)), beside);
    const file = changed.get(`../${entry.path}`);
    if (file) await stageFile(staging.end, staging.incoming, file);
    else await staging.end.write(staging.incoming, move.crate.above.read(entry.path), entry);
    const sha256 = file ? (file.after === undefined ? '' : sha256Of(file.after)) : (entry.sha256 ?? '');
    all.push({ staging, path: `../${entry.path}`, sha256 });
  }
  return all;
}

/** The files that were fitted besides the configuration. */
export function fittedOf({ files, configurationFiles }: SetUp): string[] {
  return files.filter(({ path }) => !configurationFiles.includes(path)).map(({ path }) => textOf(path));
}

import { textOf } from '../core/bytes.js';
import type { FileEntry } from '../core/files/entries.js';
import type { Finding } from '../core/findings.js';
import { observerOf, Tally } from '../core/rewrite/tally.js';
import { editsInValue } from '../core/rewrite/value.js';
import type { FactName, Family } from '../core/site/family.js';
import { openFiles } from '../ends/files/place.js';
import { inTurns } from '../ends/in-turns.js';
import { wantedOf } from './configure.js';
import { type Move, rulesOf } from './move.js';
import { movedFiles } from './rewrite.js';
import type { StepRun } from './run.js';
import { planFromCrate, sha256Of } from './set-up.js';
import { lookAtSite, readAll, readConfiguration, treeOf } from './site.js';
import { configurationMissing, needsConfiguration } from './survey-configuration.js';

/** The files of the new end beside those of the crate. */
export interface FilesComparison {
  readonly compared: number;
  readonly equal: number;
  /** Files that delivery itself fitted to the new host. */
  readonly edited: number;
  readonly missing: readonly string[];
  readonly different: readonly string[];
  readonly extra: readonly string[];
}

/** Old addresses that are still there, at one place. */
export interface LeftOver {
  readonly place: string;
  readonly count: number;
  readonly sample: string;
  readonly why: 'not rewritten' | 'left on purpose' | 'damaged value';
}

const readable =
  /\.(?:php|css|js|json|html?|xml|txt|svg|ini|conf|webmanifest)$|(?:^|\/)\.(?:htaccess|user\.ini)$/i;
const largestText = 8 * 1024 * 1024;

/** Compares every file by its checksum, and looks for old addresses in those that are text. */
export async function compareFiles(
  run: StepRun,
  family: Family,
  tree: readonly FileEntry[],
  leftOver: LeftOver[],
): Promise<FilesComparison> {
  const { move } = run;
  const place = openFiles(move.newFiles!);
  const rewritten = new Map((await move.crate.entries(movedFiles)).map(entry => [entry.path, entry]));
  const wanted = new Map(
    (await move.crate.entries()).map(entry => [entry.path, rewritten.get(entry.path) ?? entry]),
  );
  const missing: string[] = [];
  const different: string[] = [];
  let equal = 0;
  let edited = 0;
  const rules = rulesOf(move);
  const plan = await planFromCrate(move, family, await move.crate.manifest());
  const setUp = new Map(
    plan.files.map(({ path, after }) => [path, after === undefined ? '' : sha256Of(after)]),
  );
  // Of these only what they say counts, which is looked at by itself.
  const configuration = new Set([...plan.configurationFiles, plan.configuration]);
  const there = new Set<string>(tree.map(entry => entry.path));
  for (const [path, entry] of wanted)
    if (entry.type !== 'folder' && !there.has(path) && setUp.get(path) !== '') missing.push(textOf(path));
  const extra = tree
    .filter(({ path, type }) => type !== 'folder' && !wanted.has(path) && !setUp.has(path))
    .map(({ path }) => textOf(path));
  const files = tree.filter(entry => entry.type === 'file' && wanted.has(entry.path));
  const sums = await place.checksums(
    files.map(({ path }) => path),
    run.signal,
  );
  let done = 0;
  await inTurns(files, place.atOnce, run.signal, async entry => {
    const expected = wanted.get(entry.path)!;
    const sha256 = sums.get(entry.path);
    const same = sha256 === expected.sha256;
    if (same) equal++;
    else if (setUp.get(entry.path) === sha256 || configuration.has(entry.path)) edited++;
    else different.push(textOf(entry.path));
    if (readable.test(entry.path) && entry.size <= largestText) {
      const tally = new Tally();
      const seen = tally.at('files', textOf(entry.path));
      // What is equal need not be fetched again.
      const ours = rewritten.has(entry.path) ? move.crate.movedFiles : move.crate.files;
      const bytes = await readAll(same ? ours : place, entry.path);
      const edits = editsInValue(bytes, rules, observerOf(seen));
      if (edits.length > 0) {
        const { start, end } = edits[0]!;
        const line = bytes.slice(0, start).split('\n').length;
        leftOver.push({
          place: `${place.place}/${textOf(entry.path)}:${line}`,
          count: edits.length,
          sample: textOf(bytes.slice(start, end)),
          why: 'not rewritten',
        });
      }
    }
    run.events({ type: 'progress', what: textOf(entry.path), done: ++done, of: files.length, unit: 'files' });
  });
  return { compared: files.length, equal, edited, missing, different, extra };
}

/** Whether the new configuration says what the sheet wants. */
export async function configurationFindings(move: Move, family: Family): Promise<Finding[]> {
  const files = openFiles(move.newFiles!);
  const { configuration, facts } = await lookAtSite(treeOf(files), move.newAddress);
  if (configuration === undefined)
    return needsConfiguration(family)
      ? [configurationMissing(`${files.place}/${family.configurations[0]}`, family, 'new.files')]
      : [];
  if (!facts) return [];
  const { crate } = move;
  const main = (await crate.manifest()).from.configuration;
  const old =
    main === undefined
      ? undefined
      : (await readConfiguration({ files: crate.files, above: crate.above }, family, main)).reading?.facts;
  const isOldKey = (fact: FactName) => old !== undefined && old[fact]?.value === facts[fact]?.value;
  return Object.entries(wantedOf(move, family, facts, isOldKey))
    .filter(([fact, wanted]) => ![undefined, wanted].includes(facts[fact as FactName]?.value))
    .map(([fact]) => ({
      level: 'stop' as const,
      code: 'configuration-differs',
      place: `${files.place}/${facts[fact as FactName]?.file ?? configuration}:${facts[fact as FactName]?.line ?? 1}`,
      what: `The ${fact} in the configuration is not what the sheet says`,
      remedy: 'Correct it there, or correct the sheet and run "able-porter deliver --only configuration"',
    }));
}

/** What of a comparison of files an administrator should know about. */
export function fileFindings(place: string, files: FilesComparison): Finding[] {
  const told = (
    code: Finding['code'],
    level: Finding['level'],
    names: readonly string[],
    what: string,
    remedy: string,
  ): Finding[] =>
    names.length === 0
      ? []
      : [
          {
            level,
            code,
            place: `${place}/${names[0]}`,
            what: `${names.length} ${names.length === 1 ? 'file' : 'files'} ${what}`,
            remedy,
          },
        ];
  return [
    ...told(
      'file-missing',
      'stop',
      files.missing,
      'of the crate missing at the new end',
      'Run "able-porter deliver --again"',
    ),
    ...told(
      'file-different',
      'stop',
      files.different,
      'other than in the crate',
      'If nobody changed it on purpose, run "able-porter deliver --again"',
    ),
    ...told(
      'file-extra',
      'note',
      files.extra,
      'at the new end that the crate does not hold',
      'Look whether the new site has written it',
    ),
  ];
}

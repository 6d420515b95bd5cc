import pMap from 'p-map';
import { type ByteString, textOf } from '../../core/bytes.js';
import type { CheckedEntry, FileEntry } from '../../core/files/entries.js';
import { alongside } from '../../core/files/order.js';
import { isTextFile, largestText } from '../../core/files/text-files.js';
import { type Finding, finding } from '../../core/findings/findings.js';
import { editsInValue } from '../../core/rewrite/carriers/value.js';
import { observerOf } from '../../core/rewrite/report/observer.js';
import { Tally } from '../../core/rewrite/report/tally.js';
import type { Rules } from '../../core/rewrite/terms/rules.js';
import type { FactName } from '../../core/site/configuration/source/facts.js';
import type { Family } from '../../core/site/families/family.js';
import type { FilesEnd } from '../../ends/files/files-end.js';
import type { FilesPlace } from '../../ends/files/place.js';
import { sha256Of } from '../../ends/files/sums.js';
import type { CrateManifest } from '../../ends/move-folder/crate.js';
import { movedFiles } from '../../ends/move-folder/crate.js';
import { planFromCrate } from '../deliver/site/apply.js';
import { type SetUp, wantedOf } from '../deliver/site/plan-configuration.js';
import type { Move } from '../move/open.js';
import { lookAtSite, readAll, readConfiguration, treeOf } from '../move/read-site.js';
import type { StepRun } from '../move/step.js';
import { rulesOf } from '../move/terms.js';
import { configurationMissing, needsConfiguration } from '../survey/configuration.js';
import type { ExposedFiles } from './site/exposed.js';

/** The files of the new end beside those of the crate. */
export interface FilesComparison {
  readonly compared: number;
  readonly equal: number;
  /** Files that delivery itself fitted to the new host. */
  readonly edited: number;
  readonly missing: readonly string[];
  readonly different: readonly string[];
  readonly extra: readonly string[];
  /** Files and folders whose rights are not those of the old site, each with both. */
  readonly modes: readonly string[];
}

/** Old addresses that are still there, at one place. */
export interface LeftOver {
  readonly place: string;
  readonly count: number;
  readonly sample: string;
  readonly why: 'not rewritten' | 'left on purpose' | 'damaged value';
}

/** What the files of the new end are compared with. */
interface FilesToCompare {
  readonly family: Family;
  readonly manifest: CrateManifest;
  readonly place: FilesPlace;
  /** What is at the new end. */
  readonly tree: AsyncIterable<FileEntry>;
  /** Old addresses that are found are added to it. */
  readonly leftOver: LeftOver[];
  /** Is shown everything that is there. */
  readonly exposed: ExposedFiles;
}

interface ComparedFiles extends Pick<FilesToCompare, 'place' | 'leftOver' | 'exposed'> {
  readonly plan: SetUp;
  /** How many there are. */
  readonly files: number;
}

/**
 * Compares every file by its checksum, and looks for old addresses in those that are text.
 */
export async function compareFiles(
  run: StepRun,
  { family, manifest, place, tree, leftOver, exposed }: FilesToCompare,
): Promise<FilesComparison> {
  const { crate } = run.move;
  const plan = await planFromCrate(run.move, family, manifest);
  const comparing = new Comparing(run, { place, plan, files: manifest.counts.files, leftOver, exposed });
  const lists = alongside({ tree, taken: crate.entries(), moved: crate.entries(movedFiles) });
  for await (const { tree: standing, taken, moved } of lists) await comparing.compare(standing, taken, moved);
  return comparing.comparison();
}

/** So many are listed at most. */
const mostModes = 1_000;

type Entries<Entry extends FileEntry> = ReadonlyMap<ByteString, Entry>;

/** Compares what is at the new end with the crate, some of it after the other. */
class Comparing {
  private readonly run: StepRun;
  private readonly place: FilesEnd;
  private readonly rules: Rules;
  private readonly files: number;
  private readonly leftOver: LeftOver[];
  /** The checksums of files that are set up, by path; empty for those that are removed. */
  private readonly setUp: ReadonlyMap<string, string>;
  /** Of these only what they say counts, which is looked at on its own. */
  private readonly configuration: ReadonlySet<string | undefined>;
  private readonly count = { compared: 0, equal: 0, edited: 0 };
  private readonly missing: string[] = [];
  private readonly different: string[] = [];
  private readonly extra: string[] = [];
  private readonly modes: string[] = [];
  private readonly exposed: ExposedFiles;

  constructor(run: StepRun, { place, plan, files, leftOver, exposed }: ComparedFiles) {
    this.exposed = exposed;
    this.run = run;
    this.place = place.open();
    this.rules = rulesOf(run.move);
    this.files = files;
    this.leftOver = leftOver;
    this.setUp = new Map(
      plan.files.map(({ path, after }) => [path, after === undefined ? '' : sha256Of(after)]),
    );
    this.configuration = new Set([...plan.configurationFiles, plan.configuration]);
  }

  async compare(
    tree: Entries<FileEntry>,
    taken: Entries<CheckedEntry>,
    moved: Entries<CheckedEntry>,
  ): Promise<void> {
    const { setUp, place, run } = this;
    for (const [path, { type }] of taken)
      if (type !== 'folder' && !tree.has(path) && setUp.get(path) !== '') this.missing.push(textOf(path));
    for (const [path, { type }] of tree)
      if (type !== 'folder' && !taken.has(path) && !setUp.has(path)) this.extra.push(textOf(path));
    for (const entry of tree.values()) {
      this.exposed.look(entry);
      const mode = taken.get(entry.path)?.mode;
      if (
        mode !== undefined &&
        !setUp.has(entry.path) &&
        !this.configuration.has(entry.path) &&
        entry.type !== 'link'
      )
        this.compareModes(entry, mode);
    }
    const files = [...tree.values()].filter(({ type, path }) => type === 'file' && taken.has(path));
    const sums = await place.checksums(
      files.map(({ path }) => path),
      run.signal,
    );
    await pMap(
      files,
      async entry => {
        const { path, size } = entry;
        const sha256 = sums.get(path);
        const same = sha256 === (moved.get(path) ?? taken.get(path))?.sha256;
        if (same) this.count.equal++;
        else if (setUp.get(path) === sha256 || this.configuration.has(path)) this.count.edited++;
        else this.different.push(textOf(path));
        if (isTextFile(path) && size <= largestText) {
          // What is equal need not be fetched again.
          const { movedFiles: rewritten, files: asTaken } = run.move.crate;
          this.lookInto(path, await readAll(same ? (moved.has(path) ? rewritten : asTaken) : place, path));
        }
        const done = ++this.count.compared;
        run.events({ type: 'progress', what: textOf(path), done, of: this.files, unit: 'files' });
      },
      { concurrency: place.atOnce, signal: run.signal },
    );
  }

  private compareModes({ path, mode }: FileEntry, taken: number): void {
    const [was, is] = [taken, mode].map(one => (one & 0o777).toString(8).padStart(3, '0'));
    if (was !== is && this.modes.length < mostModes)
      this.modes.push(`${textOf(path)} (${is} instead of ${was})`);
  }

  private lookInto(path: ByteString, bytes: ByteString): void {
    const seen = new Tally().at('files', textOf(path));
    const edits = editsInValue(bytes, this.rules, observerOf(seen));
    const [first] = edits;
    if (!first) return;
    const line = bytes.slice(0, first.start).split('\n').length;
    this.leftOver.push({
      place: `${this.place.place}/${textOf(path)}:${line}`,
      count: edits.length,
      sample: textOf(bytes.slice(first.start, first.end)),
      why: 'not rewritten',
    });
  }

  comparison(): FilesComparison {
    const { missing, different, extra, modes } = this;
    return { ...this.count, missing, different, extra, modes };
  }
}

/** Whether the new configuration says what the sheet wants. */
export async function configurationFindings(move: Move, family: Family): Promise<Finding[]> {
  const place = move.newFiles;
  if (!place) return [];
  const { configuration, facts } = await lookAtSite(treeOf(place), move.newAddress);
  if (configuration === undefined)
    return needsConfiguration(family)
      ? [configurationMissing(`${place}/${family.configurations[0]}`, family, 'new.files')]
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
    .map(([fact]) =>
      finding({
        level: 'stop',
        code: 'configuration-differs',
        place: `${place}/${facts[fact as FactName]?.file ?? configuration}:${facts[fact as FactName]?.line ?? 1}`,
        what: `The ${fact} in the configuration is not what the sheet says`,
        remedy: 'Correct it there, or correct the sheet and run "able-porter deliver --only configuration"',
      }),
    );
}

/** What of a comparison of files an administrator should know about. */
export function fileFindings(place: string, files: FilesComparison): Finding[] {
  const several = (
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
    ...several(
      'file-missing',
      'stop',
      files.missing,
      'of the crate missing at the new end',
      'Run "able-porter deliver --by-content"',
    ),
    ...several(
      'file-different',
      'stop',
      files.different,
      'other than in the crate',
      'If nobody changed it on purpose, run "able-porter deliver --by-content --replace-changes", which keeps it',
    ),
    ...several(
      'file-extra',
      'note',
      files.extra,
      'at the new end that the crate does not hold',
      'Check whether the new site has written it',
    ),
    ...several(
      'program-file-extra',
      'warn',
      files.extra.filter(path => /\.(?:php\d?|phtml|phar|cgi|pl)$/i.test(path)),
      'of program code at the new end that were not delivered',
      'Look at them: remove what the site does not need, such as an installer',
    ),
    ...several(
      'file-mode-differs',
      'warn',
      files.modes,
      'or folders with other rights than at the old end',
      'Set the rights in the file manager of the new host, or deliver over SSH',
    ),
  ];
}

import { dirname } from 'node:path';
import pMap from 'p-map';
import { SeenFolders } from '../../core/address/server-paths.js';
import { type ByteString, bytesOf, textOf } from '../../core/bytes.js';
import { isNotFound, PorterError } from '../../core/errors.js';
import { type FileEntry, linkStaysInside } from '../../core/files/entries.js';
import { notTaken as isNotTaken, leftOut } from '../../core/files/patterns.js';
import { isTextFile, largestText } from '../../core/files/text-files.js';
import { type Finding, finding } from '../../core/findings/findings.js';
import { editsInValue } from '../../core/rewrite/carriers/value.js';
import { observerOf } from '../../core/rewrite/report/observer.js';
import { Tally } from '../../core/rewrite/report/tally.js';
import { isServerFile, readServerFile } from '../../core/site/configuration/server-files.js';
import type { Family } from '../../core/site/families/family.js';
import { StrayFiles } from '../../core/site/survey/stray-files.js';
import type { FilesEnd } from '../../ends/files/files-end.js';
import { readAll } from '../move/read-site.js';
import type { StepRun } from '../move/step.js';
import { rulesOf, siteMoveOf } from '../move/terms.js';
import { NotTaken } from '../pack/not-taken.js';

/** What was seen of a site's files. */
export interface FilesSurvey {
  readonly place: string;
  readonly files: number;
  readonly folders: number;
  readonly links: number;
  readonly bytes: number;
  readonly leftOut: { readonly files: number; readonly bytes: number };
  readonly largest: readonly { readonly path: string; readonly bytes: number }[];
  readonly largestFolders: readonly { readonly path: string; readonly bytes: number }[];
  /** Old addresses in text files, which are carried as they are unless the site writes them itself. */
  readonly withAddress: {
    readonly files: number;
    readonly occurrences: number;
    readonly first: string | undefined;
  };
}

/** What a look through the tree gives besides: what other parts of a survey continue with. */
export interface SeenFiles {
  readonly survey: FilesSurvey;
  readonly findings: readonly Finding[];
  /** Paths that look like a configuration. */
  readonly likely: readonly string[];
  readonly folders: SeenFolders;
  /** Some small files and some large ones, to measure a rate with. */
  readonly samples: readonly FileEntry[];
}

/** The program's own folders, which say nothing of this site. */
const ofProgram =
  /(?:^|\/)(?:wp-includes|wp-admin|vendor|node_modules|core|libraries|administrator|includes|resources)\//;
/** So many bytes of text are read at most, the small files first: the old host may be far away. */
const mostText = 32 * 1024 * 1024;
const largestServerFile = 1024 * 1024;

/** Looks through every file that would be taken, and counts those that would not. */
export async function surveyFiles(run: StepRun, files: FilesEnd, family: Family): Promise<SeenFiles> {
  const { take } = run.move.sheet;
  const out = isNotTaken(take.files);
  const counts = { files: 0, folders: 0, links: 0, bytes: 0 };
  const saved = { files: 0, bytes: 0 };
  const outFolders = new Set<string>();
  const folders = new Map<string, number>();
  const largest: FileEntry[] = [];
  const samples: FileEntry[] = [];
  const likely: string[] = [];
  const stray = new StrayFiles(family.marks.length > 0);
  const text = new TextOfFiles(run, family, files);
  const findings: Finding[] = [];
  const leading: FileEntry[] = [];
  const readables: FileEntry[] = [];
  const notTaken = new NotTaken();
  for await (const entry of files.list(
    () => false,
    run.signal,
    one => notTaken.add(one),
  )) {
    if (!files.takesName(entry.path)) {
      notTaken.addUnreadable(entry);
      continue;
    }
    const isOut = out(entry) || outFolders.has(dirname(entry.path));
    if (isOut && entry.type === 'folder') outFolders.add(entry.path);
    if (isOut) {
      if (entry.type === 'file') saved.files++;
      saved.bytes += entry.size;
      continue;
    }
    counts[`${entry.type}s`]++;
    counts.bytes += entry.size;
    stray.look(textOf(entry.path), entry.size);
    if (entry.type === 'link' && !linkStaysInside(entry.path, entry.to ?? '')) leading.push(entry);
    if (entry.type === 'file') {
      keepLargest(largest, entry);
      if (counts.files % 50 === 1 && samples.length < 40) samples.push(entry);
      const folder = entry.path.split('/').slice(0, -1).slice(0, 2).join('/');
      folders.set(folder, (folders.get(folder) ?? 0) + entry.size);
      if (family.configurationLike?.test(entry.path)) likely.push(entry.path);
      if (text.wants(entry)) readables.push(entry);
    }
    if (counts.files % 200 === 0)
      run.events({ type: 'progress', what: 'files seen', done: counts.files, of: 0, unit: 'files' });
  }
  await text.lookAt(text.withinBudget(readables));
  findings.push(
    ...text.findings,
    ...notTaken.findings(files.place),
    ...stray.findings(files.place),
    ...linkFindings(files.place, leading),
  );
  const survey: FilesSurvey = {
    place: files.place,
    ...counts,
    leftOut: saved,
    largest: largest.map(({ path, size }) => ({ path: textOf(path), bytes: size })),
    largestFolders: [...folders]
      .map(([path, bytes]) => ({ path: path === '' ? '.' : textOf(path), bytes }))
      .sort((a, b) => b.bytes - a.bytes)
      .slice(0, 10),
    withAddress: text.withAddress,
  };
  findings.push(...addressFindings(survey));
  return { survey, findings, likely, folders: text.folders, samples: [...samples, ...largest.slice(0, 3)] };
}

/** A content; undefined where it is longer than it may be. @param most bytes */
async function upTo(most: number, content: AsyncIterable<Buffer>): Promise<ByteString | undefined> {
  const chunks: Buffer[] = [];
  let size = 0;
  for await (const chunk of content) {
    size += chunk.length;
    if (size <= most) chunks.push(chunk);
  }
  return size <= most ? bytesOf(Buffer.concat(chunks)) : undefined;
}

/** Reads the text files of a tree, as far as they can say something of this site. */
class TextOfFiles {
  readonly folders: SeenFolders;
  readonly findings: Finding[] = [];
  readonly withAddress = { files: 0, occurrences: 0, first: undefined as string | undefined };
  private readonly run: StepRun;
  private readonly files: FilesEnd;
  private readonly family: Family;
  private readonly rules: ReturnType<typeof rulesOf>;
  private readonly isAddressed: ReturnType<typeof leftOut>;
  private readonly siteMove: ReturnType<typeof siteMoveOf>;

  constructor(run: StepRun, family: Family, files: FilesEnd) {
    this.run = run;
    this.files = files;
    this.family = family;
    this.rules = rulesOf(run.move);
    this.siteMove = siteMoveOf(run.move);
    this.folders = new SeenFolders(family.landmark);
    this.isAddressed = leftOut(family.addressed ?? []);
  }

  /** Whether a file can say something of this site. */
  wants({ path, size }: FileEntry): boolean {
    if (isServerFile(path)) return size <= largestServerFile;
    return size <= largestText && isTextFile(path) && !ofProgram.test(path);
  }

  /** As many of the files as are read: those of the web server, then the smallest. */
  withinBudget(entries: readonly FileEntry[]): FileEntry[] {
    const first = ({ path }: FileEntry) => (isServerFile(path) ? 0 : 1);
    let asked = 0;
    return [...entries]
      .sort((a, b) => first(a) - first(b) || a.size - b.size)
      .filter(({ size }) => {
        asked += size;
        return asked <= mostText;
      });
  }

  /** Reads files: as one stream where the end has one, and what does not come with it one by one. */
  async lookAt(entries: readonly FileEntry[]): Promise<void> {
    const { files, run } = this;
    const left = new Map(entries.map(entry => [entry.path, entry]));
    try {
      const stream = entries.length > 1 ? await files.readMany?.([...left.keys()], run.signal) : undefined;
      for await (const { path, content } of stream ?? []) {
        const entry = left.get(path);
        const source = entry && (await upTo(largestText, content));
        if (!source) continue;
        this.look(entry, source);
        left.delete(path);
      }
    } catch (error) {
      run.signal.throwIfAborted();
      if (error instanceof PorterError) throw error;
      // The connection was lost; what did not come is read one by one.
    }
    await pMap(
      left.values(),
      async entry => {
        // Somebody may have removed it since it was listed.
        const source = await unlessGone(readAll(files, entry.path));
        if (source !== undefined) this.look(entry, source);
      },
      { concurrency: files.atOnce, signal: run.signal },
    );
  }

  private look(entry: FileEntry, source: ByteString): void {
    const served = isServerFile(entry.path);
    this.run.signal.throwIfAborted();
    const place = `${this.files.place}/${textOf(entry.path)}`;
    if (served) this.findings.push(...readServerFile(entry.path, source, this.siteMove, place).findings);
    this.folders.window(source);
    this.folders.look(0, source.length, textOf(entry.path));
    if (!served && !this.isSetUp(entry.path)) this.countAddresses(entry, source);
  }

  /** Whether delivery or the site itself sees to the addresses in a file. */
  private isSetUp(path: ByteString): boolean {
    return (
      this.family.configurationLike?.test(path) === true ||
      this.family.generated.some(folder => path.startsWith(folder)) ||
      this.isAddressed({ path, type: 'file' })
    );
  }

  private countAddresses({ path }: FileEntry, source: ByteString): void {
    const seen = new Tally().at('files', textOf(path));
    const { length } = editsInValue(source, this.rules, observerOf(seen));
    if (length === 0) return;
    this.withAddress.files++;
    this.withAddress.occurrences += length;
    const first = this.withAddress.first;
    if (first === undefined || textOf(path) < first) this.withAddress.first = textOf(path);
  }
}

async function unlessGone<T>(reading: Promise<T>): Promise<T | undefined> {
  try {
    return await reading;
  } catch (error) {
    if (isNotFound(error)) return undefined;
    throw error;
  }
}

function keepLargest(largest: FileEntry[], entry: FileEntry): void {
  if (largest.length === 10 && entry.size <= largest[9]!.size) return;
  largest.push(entry);
  largest.sort((a, b) => b.size - a.size).splice(10);
}

function linkFindings(place: string, links: readonly FileEntry[]): Finding[] {
  const [first] = links;
  if (!first) return [];
  return [
    finding({
      level: 'warn',
      code: 'link-leads-outside',
      place: `${place}/${textOf(first.path)}`,
      what: `${links.length === 1 ? 'A symbolic link leads' : `${links.length} symbolic links lead`} out of the site (to ${textOf(first.to ?? '')}) and will not be taken`,
      remedy: 'If the site needs it, create it again at the new host',
    }),
  ];
}

function addressFindings({ place, withAddress: { files, occurrences, first } }: FilesSurvey): Finding[] {
  if (files === 0) return [];
  return [
    finding({
      level: 'note',
      code: 'address-in-files',
      place: `${place}/${first}`,
      what: `${files} text ${files === 1 ? 'file names' : 'files name'} the old address (${occurrences} ${occurrences === 1 ? 'time' : 'times'}) and ${files === 1 ? 'is' : 'are'} transferred unchanged`,
      remedy:
        'Where it matters (a theme, a script), name the files in rewrite.files, by patterns such as "themes/club/**"',
    }),
  ];
}

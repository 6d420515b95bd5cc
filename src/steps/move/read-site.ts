import type { Address } from '../../core/address/address.js';
import { asBytes, type ByteString, bytesOf, textOf } from '../../core/bytes.js';
import { DamageError } from '../../core/errors.js';
import type { FileEntry } from '../../core/files/entries.js';
import { besideFront, programFolder } from '../../core/site/configuration/front-file.js';
import type { ConfigurationFiles, Facts, Reading } from '../../core/site/configuration/source/facts.js';
import { families, recogniseFamily } from '../../core/site/families/families.js';
import type { Family, SiteVersion } from '../../core/site/families/family.js';
import type { FilesEnd } from '../../ends/files/files-end.js';
import type { FilesPlace } from '../../ends/files/place.js';
import type { Move } from './open.js';

/** What is known of a site from its files. */
export interface Site {
  readonly family: Family;
  /** The files by which it was recognised. */
  readonly by: readonly string[];
  readonly version: SiteVersion;
  /** The path of its configuration, or undefined where none was found. */
  readonly configuration: string | undefined;
  /** Where visitors come in, where that is another folder than the program's. */
  readonly front: SiteFront | undefined;
  /** Configurations of other sites in the same tree. */
  readonly others: readonly string[];
  /** The files of its configuration. */
  readonly files: ConfigurationFiles;
  /** Undefined where the configuration cannot be parsed. */
  readonly facts: Facts | undefined;
  /** Includes of the configuration that were not followed. */
  readonly unread: Reading['unread'];
}

/** The two folders of a site whose program is in a folder of its own. */
type SiteFront =
  /** The folder that was looked at is the program's; visitors come in one folder above, by these files. */
  | { readonly is: 'above'; readonly files: readonly string[] }
  /** Visitors come in by the folder that was looked at; the program of a family is in one of its folders. */
  | { readonly is: 'here'; readonly family: string; readonly program: string };

const largestConfiguration = 1024 * 1024;
const mostConfigurationFiles = 20;

/** A site's folder, and the folder above it, in which a part of its configuration may lie. */
export interface SiteTree {
  readonly files: FilesEnd;
  readonly above: FilesEnd;
  /** The folder's name in the one above, where it is known. */
  readonly name?: string;
}

/** The tree of a site in the place that it is served from. @param files the place, where it is open already */
export function treeOf(place: FilesPlace, files = place.open()): SiteTree {
  return { files, above: place.above.open(), name: place.name };
}

/** Moves of which the old site is looked at once, for steps that follow one another at once. */
const remembered = new WeakMap<Move, { site?: Promise<Site> }>();

/** From now on the steps of a move do not look at its old site again. */
export function rememberOldSite(move: Move): void {
  remembered.set(move, {});
}

/**
 * The site that is at the old end, as it is remembered or is seen now; undefined where the sheet names no place.
 * @param files the place, where it is open already
 */
export async function lookAtOldSite(move: Move, files?: FilesEnd): Promise<Site | undefined> {
  const { oldPlace } = move;
  if (!oldPlace) return undefined;
  const memory = remembered.get(move);
  const looking = memory?.site ?? lookAtSite(treeOf(oldPlace, files), move.oldAddress);
  if (memory && !memory.site) {
    memory.site = looking;
    looking.catch(() => {
      delete memory.site;
    });
  }
  return looking;
}

/** Recognises a site and reads its configuration with the files that it includes. Nothing of it is run. */
export async function lookAtSite(tree: SiteTree, address: Address): Promise<Site> {
  const { files } = tree;
  const asked = [...new Set(families.flatMap(one => [...one.marks.flat(), ...plainlyNamed(one)]))];
  const paths = asked.map(path => asBytes(path));
  const there = (await files.entriesAt?.(paths)) ?? (await Promise.all(paths.map(path => files.entry(path))));
  const known = new Map(asked.map((path, i) => [path, there[i]]));
  const { family, by } = recogniseFamily(path => known.get(path) !== undefined);
  const configured = async () => {
    const mains = await configurationsOf(tree, family, known);
    const configuration =
      mains.length > 1 ? (family.configurationFor?.(mains, address) ?? mains[0]) : mains[0];
    const others = mains.filter(path => path !== configuration && !path.startsWith('../'));
    const none = { read: { main: '', sources: new Map() }, reading: undefined };
    const read =
      configuration === undefined
        ? none
        : await readConfiguration(tree, family, configuration, known.get(configuration));
    return { configuration, others, ...read };
  };
  const [{ configuration, others, read, reading }, version, front] = await Promise.all([
    configured(),
    versionOf(tree, family),
    by.length > 0 ? frontAbove(tree, family) : programWithin(tree),
  ]);
  return {
    family,
    by,
    version,
    configuration,
    front,
    others,
    files: read,
    facts: reading?.facts,
    unread: reading?.unread ?? [],
  };
}

/** A site's configuration, read until nothing more of it is asked for. @param known what is at its path, if that is known */
export async function readConfiguration(
  tree: SiteTree,
  family: Family,
  main: string,
  known?: FileEntry,
): Promise<{ read: ConfigurationFiles; reading: Reading | undefined }> {
  const sources = new Map([[main, await readSmall(tree, main, known)]]);
  for (;;) {
    const reading = family.readConfiguration({ main, sources });
    const wanted = reading?.wanted.slice(0, mostConfigurationFiles - sources.size) ?? [];
    if (wanted.length === 0) return { read: { main, sources }, reading };
    for (const path of wanted) sources.set(path, await readSmall(tree, path));
  }
}

/** Those of its configurations of which the whole name in the site is known. */
function plainlyNamed({ configurations }: Family): string[] {
  return configurations.filter(path => !path.startsWith('../') && !path.includes('*'));
}

/** The paths of a family's configurations that are there, the likeliest first. @param known entries that were asked for */
async function configurationsOf(
  tree: SiteTree,
  family: Family,
  known: ReadonlyMap<string, FileEntry | undefined>,
): Promise<string[]> {
  const there = new Set<string>();
  for (const pattern of family.configurations) {
    const [before, after] = pattern.split('*');
    if (after === undefined) {
      const [entry, isOthers] = await Promise.all([
        known.has(pattern) ? known.get(pattern) : entryAt(tree, pattern),
        // What is above is another site's, where another site is there.
        pattern.startsWith('../') && isSiteAbove(tree, family),
      ]);
      if (entry?.type === 'file' && !isOthers) there.add(pattern);
      continue;
    }
    for (const folder of await foldersIn(tree.files, before!)) {
      const path = `${before}${folder}${after}`;
      if ((await entryAt(tree, path))?.type === 'file') there.add(path);
    }
  }
  return [...there];
}

/** Whether the file one folder above, by which visitors come in, loads the program from this folder. */
async function frontAbove(tree: SiteTree, { front }: Family): Promise<SiteFront | undefined> {
  if (!front || tree.name === undefined) return undefined;
  const source = await readSmall(tree, `../${front.file}`);
  if (source === undefined || programFolder(source, front) !== tree.name) return undefined;
  const beside = await Promise.all(
    besideFront.map(async name => ((await entryAt(tree, `../${name}`))?.type === 'file' ? [name] : [])),
  );
  return { is: 'above', files: [front.file, ...beside.flat()] };
}

/** The folder of a program that a file of this one loads. */
async function programWithin(tree: SiteTree): Promise<SiteFront | undefined> {
  for (const { name, front, marks } of families) {
    const source = front && (await readSmall(tree, front.file));
    const program = source === undefined ? undefined : programFolder(source, front!);
    if (!program) continue;
    const mark = marks[0]?.[0];
    if (mark !== undefined && (await tree.files.entry(asBytes(`${program}/${mark}`))))
      return { is: 'here', family: name, program };
  }
  return undefined;
}

async function isSiteAbove(tree: SiteTree, family: Family): Promise<boolean> {
  const [first] = family.marks;
  return first !== undefined && (await entryAt(tree, `../${first[0]}`)) !== undefined;
}

/** The names of the folders in a folder, such as `sites/`. */
async function foldersIn(files: FilesEnd, folder: string): Promise<string[]> {
  const names: string[] = [];
  if (!(await files.entry(asBytes(folder.replace(/\/$/, ''))))) return names;
  const elsewhere = (path: string) =>
    !folder.startsWith(`${path}/`) && (!path.startsWith(folder) || path.slice(folder.length).includes('/'));
  for await (const { path, type } of files.list(one => elsewhere(one.path), new AbortController().signal))
    if (type === 'folder' && path.startsWith(folder)) names.push(textOf(asBytes(path.slice(folder.length))));
  return names;
}

async function versionOf(tree: SiteTree, family: Family): Promise<SiteVersion> {
  const sources = new Map<string, ByteString>();
  const read = await Promise.all(family.versionFiles.map(path => readSmall(tree, path)));
  for (const [i, path] of family.versionFiles.entries()) sources.set(path, read[i] ?? asBytes(''));
  return family.versionIn(path => sources.get(path) ?? asBytes(''));
}

/** An end and a path in it: a path that begins with `../` is one folder above the site. */
export function locate({ files, above }: SiteTree, path: string): { end: FilesEnd; path: ByteString } {
  if (!path.startsWith('../')) return { end: files, path: asBytes(path) };
  return { end: above, path: asBytes(path.slice(3)) };
}

/** What is at a path of a site, or one folder above it. */
export async function entryAt(tree: SiteTree, path: string): Promise<FileEntry | undefined> {
  const at = locate(tree, path);
  return at.end.entry(at.path);
}

/**
 * A small file's bytes, also through a link; undefined where none is. One that is too large is cut just beyond.
 * @param known what is at its path, if that is known
 */
export async function readSmall(
  tree: SiteTree,
  path: string,
  known?: FileEntry,
): Promise<ByteString | undefined> {
  const { end, path: name } = locate(tree, path);
  const entry = known ?? (await end.entry(name));
  if (entry?.type !== 'file' && entry?.type !== 'link') return undefined;
  let size = 0;
  const chunks: Buffer[] = [];
  try {
    for await (const chunk of end.read(name)) {
      size += chunk.length;
      chunks.push(chunk);
      if (size > largestConfiguration) break;
    }
  } catch (error) {
    if (entry.type === 'file') throw error;
    // A link that leads nowhere, or to a folder.
    return undefined;
  }
  return bytesOf(Buffer.concat(chunks).subarray(0, largestConfiguration + 1));
}

/** No file that is held in memory as a whole is larger than this many bytes. */
const largestHeld = 256 * 1024 * 1024;

/** A small file's bytes. @throws DamageError for one that does not end */
export async function readAll(files: FilesEnd, path: ByteString): Promise<ByteString> {
  const chunks: Buffer[] = [];
  let size = 0;
  for await (const chunk of files.read(path)) {
    chunks.push(chunk);
    size += chunk.length;
    if (size > largestHeld)
      throw new DamageError({
        doing: `Reading ${files.place}/${textOf(path)}`,
        cause: 'more and more comes of what was listed as a small file',
        remedy:
          'Look at the file at the host; leave it out with take.files.without if the site does not need it',
      });
  }
  return bytesOf(Buffer.concat(chunks));
}

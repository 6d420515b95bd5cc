import { asBytes, type ByteString, bytesOfText, textOf } from '../bytes.js';
import { DamageError } from '../errors.js';

/** One thing in a tree of files. Its path is relative, with `/`, and held as bytes since names need not be UTF-8. */
export interface FileEntry {
  readonly path: ByteString;
  readonly type: 'file' | 'folder' | 'link';
  /** Bytes; 0 for folders and links. */
  readonly size: number;
  /** Permission bits. */
  readonly mode: number;
  /** Milliseconds since 1970, UTC. */
  readonly mtime: number;
  /** Where a link points. */
  readonly to?: ByteString | undefined;
}

/**
 * What a folder holds: besides what is taken, sockets, named pipes and devices (`special`), and what a server lists there
 * although its name leads elsewhere (`elsewhere`; the path is the name alone).
 */
export interface ListedEntry extends Omit<FileEntry, 'type'> {
  readonly type: FileEntry['type'] | 'special' | 'elsewhere';
}

/** No file is larger than this many bytes. */
const largestFile = 2 ** 50;

/** @throws DamageError for a size that no file has */
export function requirePossible({ path, size }: ListedEntry): void {
  if (Number.isInteger(size) && size >= 0 && size <= largestFile) return;
  throw new DamageError({
    doing: `Looking at ${textOf(path)}`,
    cause: `the host gives it a size that no file has (${size} bytes)`,
    remedy: 'Look at the file at the host; leave it out with take.files.without if the site does not need it',
  });
}

/** Things by how deep their paths lie, the least deep first. */
export function byDepth<T>(all: readonly T[], pathOf: (one: T) => ByteString): T[][] {
  const levels = new Map<number, T[]>();
  for (const one of all) {
    const depth = pathOf(one).split('/').length;
    const level = levels.get(depth);
    if (level) level.push(one);
    else levels.set(depth, [one]);
  }
  return [...levels].sort(([a], [b]) => a - b).map(([, level]) => level);
}

/** Whether a text can be the name of something in a folder. */
export function isName(text: string): boolean {
  return text !== '' && text !== '.' && text !== '..' && !/[/\0]/.test(text);
}

/** An entry for a name that leads elsewhere than into the folder that is listed. */
export function elsewhere(name: ByteString): ListedEntry {
  return { path: name, type: 'elsewhere', size: 0, mode: 0, mtime: 0 };
}

/** Whether an entry is one that can be taken. */
export function isTakable(entry: ListedEntry | undefined): entry is FileEntry {
  return entry !== undefined && entry.type !== 'special' && entry.type !== 'elsewhere';
}

/** An entry with the checksum of its content. */
export interface CheckedEntry extends FileEntry {
  readonly sha256?: string | undefined;
  /** The time that it had where it was brought, where that is another than its own. */
  readonly seen?: number | undefined;
}

/** The folder that something is in; empty for the top. */
export function folderOf(path: ByteString): ByteString {
  return asBytes(path.slice(0, Math.max(0, path.lastIndexOf('/'))));
}

/** A line of `files.ndjson`. A path that is not UTF-8 is also given in Base64. */
export function entryLine(entry: CheckedEntry): string {
  const { path, type, size, mode, mtime, to, sha256, seen } = entry;
  const text = textOf(path);
  return JSON.stringify({
    path: text,
    ...(bytesOfText(text) === path ? {} : { bytes: Buffer.from(path, 'latin1').toString('base64') }),
    type,
    size,
    mode: mode.toString(8).padStart(4, '0'),
    mtime: new Date(mtime).toISOString(),
    ...(to === undefined ? {} : { to: textOf(to) }),
    ...(sha256 === undefined ? {} : { sha256 }),
    ...(seen === undefined ? {} : { seen: new Date(seen).toISOString() }),
  });
}

/**
 * Reads a line of `files.ndjson`.
 * @param anyLinks whether links may lead out of the folder
 * @throws DamageError when it is not such a line, or its path leads out of the folder it belongs to
 */
export function readEntryLine(line: string, anyLinks = false): CheckedEntry {
  let raw: Record<string, unknown>;
  try {
    raw = JSON.parse(line);
  } catch (cause) {
    throw damaged(line, 'it is not JSON', cause);
  }
  const { path, bytes, type, size, mode, mtime, to, sha256, seen } = raw ?? {};
  if (typeof path !== 'string' || !(type === 'file' || type === 'folder' || type === 'link')) {
    throw damaged(line, 'it has no path or no known type');
  }
  const held =
    typeof bytes === 'string' ? asBytes(Buffer.from(bytes, 'base64').toString('latin1')) : bytesOfText(path);
  if (!staysInside(held)) throw damaged(line, 'its path leads out of the folder');
  const leadsOut = typeof to !== 'string' || !linkStaysInside(held, bytesOfText(to));
  if (type === 'link' && leadsOut && !anyLinks) {
    throw damaged(line, 'its link leads out of the folder');
  }
  const wrong = (field: string) => damaged(line, `its ${field} is not what such a list has`);
  if (!Number.isSafeInteger(size) || (size as number) < 0) throw wrong('size');
  if (typeof mode !== 'string' || !/^[0-7]{1,5}$/.test(mode)) throw wrong('mode');
  if (typeof mtime !== 'string' || Number.isNaN(Date.parse(mtime))) throw wrong('mtime');
  if (sha256 !== undefined && !/^[0-9a-f]{64}$/.test(String(sha256))) throw wrong('sha256');
  if (seen !== undefined && Number.isNaN(Date.parse(String(seen)))) throw wrong('seen');
  return {
    path: held,
    type,
    size: size as number,
    mode: Number.parseInt(mode, 8) & plainMode,
    mtime: Date.parse(mtime),
    to: typeof to === 'string' ? bytesOfText(to) : undefined,
    sha256: typeof sha256 === 'string' ? sha256 : undefined,
    seen: typeof seen === 'string' ? Date.parse(seen) : undefined,
  };
}

/** Bits of a mode without setuid, setgid and sticky: with these a file does more than be read, written and run. */
export const plainMode = 0o777;

/** Nothing, an empty part, one of a dot or two, or a NUL. */
const leavesFolder = /(?:^|\/)\.{0,2}(?:\/|$)|\0/;

/** Whether a relative path stays in its folder: no `..`, no empty part, not absolute, no NUL. */
export function staysInside(path: string): boolean {
  return !leavesFolder.test(path);
}

/**
 * Whether a link at `path` that points to `to` stays inside the tree, wherever other links lead that do too: it may go up
 * first, to a folder that is one, and then only down.
 */
export function linkStaysInside(path: string, to: string): boolean {
  if (to === '' || to.startsWith('/') || to.includes('\0')) return false;
  let depth = path.split('/').length - 1;
  let goesDown = false;
  for (const part of to.split('/')) {
    if (part === '' || part === '.') continue;
    // Above what another link leads to is nobody knows where.
    if (part === '..' && (goesDown || --depth < 0)) return false;
    goesDown ||= part !== '..';
  }
  return true;
}

/** Finds entries that would be written through a link of the same tree. Entries are given in any order of their folders. */
export class LinksAbove {
  private readonly links = new Set<string>();

  /** Whether an entry is below a link; one that is itself a link is remembered. */
  has({ path, type }: Pick<FileEntry, 'path' | 'type'>): boolean {
    if (this.links.size > 0)
      for (let at = path.indexOf('/'); at > 0; at = path.indexOf('/', at + 1))
        if (this.links.has(path.slice(0, at))) return true;
    if (type === 'link') this.links.add(path);
    return false;
  }
}

function damaged(line: string, cause: string, error?: unknown): DamageError {
  return new DamageError(
    {
      doing: `Reading the list of files, at ${line.slice(0, 80)}`,
      cause,
      remedy: 'Pack again: the crate was changed',
    },
    { cause: error },
  );
}

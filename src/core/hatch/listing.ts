import { asBytes, type ByteString } from '../bytes.js';
import { elsewhere, isName, type ListedEntry } from '../files/entries.js';

/** A part of a listing. */
export interface HatchListing {
  /** What was found, by folder (empty for the place itself). A folder that is in two parts comes in both. */
  readonly found: readonly { readonly folder: ByteString; readonly entries: readonly ListedEntry[] }[];
  /** Folders that are to be listed yet. */
  readonly left: readonly ByteString[];
}

const kinds: Readonly<Record<string, ListedEntry['type']>> = {
  f: 'file',
  d: 'folder',
  l: 'link',
  s: 'special',
};

/** Latest time that a date can hold, in milliseconds. */
const latest = 8.64e15;

/** Reads what a hatch lists: `D` and a folder, its entries, and at the end `E` and folders that are left. */
export function readListing(data: Buffer): HatchListing {
  const fields = fieldsOf(data);
  const found: { folder: ByteString; entries: ListedEntry[] }[] = [];
  let at = 0;
  for (; at < fields.length && fields[at] !== 'E'; ) {
    if (fields[at] === 'D') {
      found.push({ folder: folderNamed(fields[at + 1]!), entries: [] });
      at += 2;
      continue;
    }
    const { folder, entries } = found.at(-1)!;
    const entry = readEntry(fields.slice(at, at + 6), folder);
    if (entry) entries.push(entry);
    at += 6;
  }
  const left = fields.slice(at + 1).filter(Boolean);
  return { found, left: left.map(folderNamed) };
}

/** Reads entries that were asked for by path; undefined where nothing is. */
export function readEntries(data: Buffer): (ListedEntry | undefined)[] {
  const fields = fieldsOf(data);
  const entries: (ListedEntry | undefined)[] = [];
  for (let at = 0; at + 6 <= fields.length; at += 6) {
    const [, , , , path] = fields.slice(at, at + 6);
    entries.push(readEntry(fields.slice(at, at + 6), undefined, path));
  }
  return entries;
}

function fieldsOf(data: Buffer): string[] {
  return data.toString('latin1').split('\0');
}

function folderNamed(text: string): ByteString {
  return asBytes(text === '.' ? '' : text);
}

function readEntry(
  [kind, mode, size, mtime, name, target]: readonly string[],
  folder: ByteString | undefined,
  path?: string,
): ListedEntry | undefined {
  const type = kinds[kind!];
  if (type === undefined) return undefined;
  // A server may list anything; only plain names below the folder are taken.
  if (path === undefined && !isName(name!)) return elsewhere(asBytes(name!));
  return {
    path: asBytes(path ?? (folder === '' || folder === undefined ? name! : `${folder}/${name}`)),
    type,
    size: type === 'file' ? Number(size) : 0,
    mode: Number(mode) & 0o7777,
    mtime: Math.max(-latest, Math.min(latest, Number(mtime) * 1000)),
    to: type === 'link' ? asBytes(target!) : undefined,
  };
}

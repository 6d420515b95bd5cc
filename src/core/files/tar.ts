import { asBytes, type ByteString, bufferOf } from '../bytes.js';
import { DamageError } from '../errors.js';
import type { FileEntry } from './entries.js';

/**
 * Tars of whole files in memory, and their heads (IEEE Std 1003.1, ustar and pax). Names are bytes: the package for streams
 * takes them for UTF-8.
 */

const block = 512;
/** A longer name gets a header before it. */
const longestName = 100;
/** So does a longer file: eleven octal digits, in bytes. */
const largestSize = 8 ** 11 - 1;

/** A file or folder as a part of a tar. */
export function tarBytes(
  entry: Pick<FileEntry, 'path' | 'type' | 'mode' | 'mtime'>,
  content: Buffer,
): Buffer {
  const isFolder = entry.type === 'folder';
  const head = tarHead(entry, isFolder ? 0 : content.length);
  return isFolder ? head : Buffer.concat([head, padded(content)]);
}

/** What is before a file or folder in a tar. @param size of its content, in bytes */
export function tarHead(entry: Pick<FileEntry, 'path' | 'type' | 'mode' | 'mtime'>, size: number): Buffer {
  const records = [
    ...(entry.path.length > longestName ? [recordOf('path', entry.path)] : []),
    ...(size > largestSize ? [recordOf('size', asBytes(String(size)))] : []),
  ];
  const head = headOf(entry, Math.min(size, largestSize), entry.type === 'folder' ? '5' : '0');
  if (records.length === 0) return head;
  const pax = Buffer.concat(records);
  return Buffer.concat([headOf({ ...entry, path: asBytes('pax') }, pax.length, 'x'), padded(pax), head]);
}

/** How many bytes of zeros follow a content. @param size of the content */
export function tarPadding(size: number): number {
  return (block - (size % block)) % block;
}

/** What is behind the last entry. */
export const tarEnd = Buffer.alloc(2 * block);

/** A file or folder as it is in a tar. */
interface TarEntry extends Pick<FileEntry, 'path' | 'mode' | 'mtime'> {
  readonly type: 'file' | 'folder';
  readonly content: Buffer;
}

/** What is in a tar. @throws DamageError where it ends in the middle of a file */
export function* readTar(tar: Buffer): Iterable<TarEntry> {
  let long: string | undefined;
  for (let at = 0; at + block <= tar.length; ) {
    const head = tar.subarray(at, at + block);
    if (head[0] === 0) return;
    const octal = (from: number, length: number) =>
      Number.parseInt(head.toString('latin1', from, from + length), 8);
    const size = octal(124, 12);
    const content = tar.subarray(at + block, at + block + size);
    if (!Number.isInteger(size) || content.length !== size) throw cut();
    at += block + Math.ceil(size / block) * block;
    const kind = String.fromCharCode(head[156]!);
    if (kind === 'x') {
      long = longName(content.toString('latin1'));
      continue;
    }
    const short = head.toString('latin1', 0, longestName).replace(/\0.*$/s, '');
    const path = asBytes((long ?? short).replace(/\/$/, ''));
    const type = kind === '5' ? 'folder' : 'file';
    yield { path, type, mode: octal(100, 8), mtime: octal(136, 12) * 1000, content };
    long = undefined;
  }
}

function headOf(
  { path, mode, mtime }: Pick<FileEntry, 'path' | 'mode' | 'mtime'>,
  size: number,
  kind: string,
): Buffer {
  const head = Buffer.alloc(block);
  const octal = (value: number, length: number) =>
    `${Math.max(0, value)
      .toString(8)
      .padStart(length - 1, '0')}\0`;
  bufferOf(path).copy(head, 0, 0, longestName);
  head.write(octal(mode & 0o7777, 8) + octal(0, 8) + octal(0, 8), 100, 'latin1');
  head.write(octal(size, 12) + octal(Math.floor(mtime / 1000), 12), 124, 'latin1');
  head.write(`        ${kind}`, 148, 'latin1');
  head.write('ustar\x0000', 257, 'latin1');
  let sum = 0;
  for (const byte of head) sum += byte;
  head.write(`${sum.toString(8).padStart(6, '0')}\0 `, 148, 'latin1');
  return head;
}

/** The path in a pax head: records, each with its length before it, may hold anything. */
function longName(records: string): string | undefined {
  for (let at = 0, length = 0; ; at += length) {
    length = Number.parseInt(records.slice(at, at + 12), 10);
    if (!(length > 0)) return undefined;
    const path = /^\d+ path=(.*)\n$/s.exec(records.slice(at, at + length))?.[1];
    if (path !== undefined) return path;
  }
}

/** A record of a pax head: its own length is a part of it. */
function recordOf(key: string, value: ByteString): Buffer {
  const rest = ` ${key}=${value}\n`;
  let { length } = rest;
  while (`${length}${rest}`.length !== length) ({ length } = `${length}${rest}`);
  return Buffer.from(`${length}${rest}`, 'latin1');
}

function padded(content: Buffer): Buffer {
  const missing = tarPadding(content.length);
  return missing === 0 ? content : Buffer.concat([content, Buffer.alloc(missing)]);
}

function cut(): DamageError {
  return new DamageError({
    doing: 'Reading what a hatch sent',
    cause: 'its tar ends in the middle of a file',
    remedy: 'Run the command again',
  });
}

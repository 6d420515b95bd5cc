import { open } from 'node:fs/promises';
import { asBytes, type ByteString, bufferOf, bytesOfText, textOf } from '../../core/bytes.js';
import { DamageError } from '../../core/errors.js';
import type { FileEntry } from '../../core/files/entries.js';
import { tarEnd, tarHead, tarPadding } from '../../core/files/tar.js';
import type { Crate, CrateManifest } from '../move-folder/crate.js';
import { checksumOf } from '../move-folder/crate-part.js';
import { archivedName, lists } from './tar.js';

/** A file in the tar: its head, its content as it is on the disk, and zeros up to a whole block. */
interface Piece {
  readonly from: number;
  readonly name: ByteString;
  /** On this machine. */
  readonly file: ByteString;
  readonly size: number;
  readonly mode: number;
  readonly mtime: number;
}

const readBytes = 1024 * 1024;

/**
 * A crate as one tar of which any range can be given. No file holds it, and it may grow: files are in it as soon as they are
 * taken, in that order; the lists and the manifest come at the end. Links and folders are made from the lists.
 */
export class GrowingTar {
  /** Bytes that can be given. */
  bytes = 0;
  /** Whether nothing more comes. */
  isWhole = false;
  /** Why nothing more comes, although it is not whole. */
  failure: Error | undefined;
  private readonly crate: Crate;
  private readonly pieces: Piece[] = [];
  private readonly added = new Map<ByteString, string>();
  private waiting: (() => void)[] = [];

  constructor(crate: Crate) {
    this.crate = crate;
  }

  /** A file that the crate has now. */
  addFile(entry: FileEntry): void {
    // A name that is not UTF-8 goes by its checksum, which the lists know.
    if (bytesOfText(textOf(entry.path)) !== entry.path) return;
    this.added.set(entry.path, traceOf(entry));
    this.put(asBytes(`files/${entry.path}`), this.fileAt('files', entry.path), entry);
  }

  /** Adds what is missing, and ends. @param manifest of the crate, which is whole */
  async finish(manifest: CrateManifest): Promise<void> {
    for (const [list, folder] of Object.entries(lists)) {
      if (!manifest.parts[list]) continue;
      for await (const entry of this.crate.entries(list)) {
        if (entry.type !== 'file') continue;
        if (folder === 'files' && this.added.get(entry.path) === traceOf(entry)) continue;
        this.put(archivedName(folder, entry), this.fileAt(folder, entry.path), entry);
      }
    }
    for (const name of [...Object.keys(manifest.parts), 'crate.json']) {
      const { bytes: size } = manifest.parts[name] ?? (await checksumOf(this.crate.at(name)));
      this.put(bytesOfText(name), bytesOfText(this.crate.at(name)), { size, mode: 0o644, mtime: 0 });
    }
    this.bytes += tarEnd.length;
    this.isWhole = true;
    this.wake();
  }

  /** Nothing more comes. */
  fail(error: Error): void {
    this.failure = error;
    this.wake();
  }

  /** Waits, up to some time, until it is so long, or whole. @param patience milliseconds */
  async reaches(bytes: number, patience: number): Promise<boolean> {
    const end = Date.now() + patience;
    while (this.bytes < bytes && !this.isWhole && !this.failure && Date.now() < end) {
      await new Promise<void>(resolve => {
        const timer = setTimeout(resolve, Math.max(0, end - Date.now()));
        this.waiting.push(() => {
          clearTimeout(timer);
          resolve();
        });
      });
    }
    return this.isWhole || this.bytes >= bytes;
  }

  /** The bytes from one place up to another. @throws DamageError where a file has become another one */
  async *range(from: number, to: number): AsyncIterable<Buffer> {
    let at = from;
    for (let i = this.pieceAt(from); at < to && i < this.pieces.length; i++) {
      const piece = this.pieces[i]!;
      for await (const chunk of partOf(piece, at - piece.from, to - piece.from)) {
        yield chunk;
        at += chunk.length;
      }
    }
    if (at < to) yield Buffer.alloc(to - at);
  }

  private put(name: ByteString, file: ByteString, like: Pick<FileEntry, 'size' | 'mode' | 'mtime'>): void {
    const piece = { from: this.bytes, name, file, size: like.size, mode: like.mode, mtime: like.mtime };
    this.pieces.push(piece);
    this.bytes += headOf(piece).length + piece.size + tarPadding(piece.size);
    this.wake();
  }

  private fileAt(folder: string, path: ByteString): ByteString {
    return asBytes(`${bytesOfText(this.crate.at(folder))}/${path}`);
  }

  /** The last piece that begins at or before a place. */
  private pieceAt(place: number): number {
    let [low, high] = [0, this.pieces.length - 1];
    while (low < high) {
      const middle = Math.ceil((low + high) / 2);
      if (this.pieces[middle]!.from <= place) low = middle;
      else high = middle - 1;
    }
    return low;
  }

  private wake(): void {
    const { waiting } = this;
    this.waiting = [];
    for (const wake of waiting) wake();
  }
}

function headOf({ name, size, mode, mtime }: Piece): Buffer {
  return tarHead({ path: name, type: 'file', mode, mtime }, size);
}

/** Differs where something else was at the path before. */
function traceOf({ size, mtime }: FileEntry): string {
  return `${size} ${mtime}`;
}

/** A part of a piece. @param from where it begins, in bytes from the piece's own beginning @param to where it ends */
async function* partOf(piece: Piece, from: number, to: number): AsyncIterable<Buffer> {
  const head = headOf(piece);
  const begin = Math.max(0, from);
  if (begin < head.length) yield head.subarray(begin, to);
  const [first, last] = [Math.max(0, begin - head.length), Math.min(piece.size, to - head.length)];
  if (first < last) yield* contentOf(piece, first, last);
  const behind = [
    Math.max(begin, head.length + piece.size),
    Math.min(to, head.length + piece.size + tarPadding(piece.size)),
  ];
  if (behind[0]! < behind[1]!) yield Buffer.alloc(behind[1]! - behind[0]!);
}

async function* contentOf({ file, size }: Piece, from: number, to: number): AsyncIterable<Buffer> {
  const handle = await open(bufferOf(file), 'r');
  try {
    for (let at = from; at < to; ) {
      const buffer = Buffer.alloc(Math.min(readBytes, to - at));
      const { bytesRead } = await handle.read(buffer, 0, buffer.length, at);
      if (bytesRead === 0) throw changed(file, size);
      yield buffer.subarray(0, bytesRead);
      at += bytesRead;
    }
  } finally {
    await handle.close();
  }
}

function changed(file: ByteString, size: number): DamageError {
  return new DamageError({
    doing: `Reading ${textOf(file)}`,
    cause: `it is shorter than when it was taken (${size} bytes)`,
    remedy: 'Pack again, then run this again',
  });
}

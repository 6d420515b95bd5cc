import type { ByteString } from '../bytes.js';
import { type Kernels, kernelsWith, type SharedMemory } from './module.js';

/** Bytes that are worked on in one go. */
export const pieceBytes = 4 << 20;
/** Bytes of a string that are worked on in one go. */
export const textBytes = 128 * 1024;
/** So many places of anchors, and so many edits, have room. */
export const mostAnchors = 256 * 1024;
export const mostEdits = 128 * 1024;
/** What is put by edits, and a piece after its edits, have so many bytes at most. */
export const putBytes = 1 << 20;
const splicedBytes = 2 * pieceBytes;

/** Bytes of a file that are read or written in one go, and room before them for what is left of those before. */
export const blockBytes = 1 << 21;
export const roomBefore = 1 << 20;
const blocksIn = 3;
const blocksOut = 5;

/** The kernels may read so far beyond a piece. */
const beyond = 64;
/** What the machine's memory is divided into, as far as the disk cares. */
const pageBytes = 4096;

/** Some bytes that are in the memory. */
interface Piece {
  readonly bytes: Uint8Array | undefined;
  readonly from: number;
  readonly to: number;
}

/** Who keeps tables in the memory. Before another does in the same place, it may take its own away. */
type Tenant = object & { moveOut?(): void };

/** Places in the memory that one at a time may have. */
class Lent {
  private readonly places: Buffer[];
  private areTaken = false;

  constructor(places: Buffer[]) {
    this.places = places;
  }

  /** @returns undefined while somebody else has them */
  take(): readonly Buffer[] | undefined {
    if (this.areTaken) return undefined;
    this.areTaken = true;
    return this.places;
  }

  /** Which of the places begins at an offset of the memory's buffer, while somebody has it; otherwise -1. */
  indexAt(offset: number): number {
    return this.areTaken ? this.places.findIndex(({ byteOffset }) => byteOffset === offset) : -1;
  }

  /** Has another place instead of one of its own, which it gives. */
  swap(index: number, other: Buffer): Buffer {
    const own = this.places[index]!;
    this.places[index] = other;
    return own;
  }

  giveBack(): void {
    this.areTaken = false;
  }
}

/**
 * A memory with the kernels in it, in which all that read dumps and values take turns. A thread needs one; it is made by
 * whoever runs the work and passed to all that share it.
 */
export class Workbench {
  readonly kernels: Kernels;
  /** The memory, as other threads can be given it, and as bytes. */
  readonly shared: SharedMemory;
  readonly memory: Buffer;
  /** The offset of the piece of a buffer that was copied last. */
  piece: number;
  /** Where pieces of buffers are put that are elsewhere, and pieces of strings. */
  private readonly pieces: number;
  readonly text: number;
  /** Where the state of rows is kept, what the kernels know of addresses, where anchors are, and the edits of rows. */
  readonly rows: number;
  readonly addresses: number;
  readonly anchors: number;
  readonly edits: number;
  /** The offsets of what edits insert, and of the edited piece. */
  readonly puts: number;
  readonly spliced: Buffer;
  /** Where patterns and what is found of them are kept, and where that ends. */
  readonly search: number;
  readonly end: number;
  /** Where another thread has patterns, and puts what it finds. */
  readonly ahead: number;
  /**
   * For blocks of a file: one may be read while the other is worked on. Each begins with a page of the machine's memory, and
   * has room before it, as those have that are written.
   */
  readonly incoming: Lent;
  readonly outgoing: Lent;
  private readonly tenants = new Map<number, Tenant>();
  private loaded: Piece = { bytes: undefined, from: 0, to: 0 };

  constructor() {
    let end = 0;
    const room = (bytes: number) => {
      end += bytes;
      return end - bytes;
    };
    const block = () => room(roomBefore + blockBytes + pageBytes) + roomBefore;
    const places = {
      outgoing: Array.from({ length: blocksOut }, block),
      incoming: Array.from({ length: blocksIn }, block),
      pieces: room(pieceBytes + beyond),
      text: room(textBytes + beyond),
      rows: room(rowsBytes),
      addresses: room(addressesBytes),
      anchors: room(8 * mostAnchors),
      edits: room(24 * mostEdits),
      puts: room(putBytes),
      spliced: room(splicedBytes),
      ahead: room(aheadBytes),
      search: room(searchBytes),
    };
    const { kernels, shared, from } = kernelsWith(end);
    this.kernels = kernels;
    this.shared = shared;
    const memory = Buffer.from(shared.buffer);
    this.memory = memory;
    const blockAt = (at: number) => memory.subarray(from + at, from + at + blockBytes);
    this.incoming = new Lent(places.incoming.map(blockAt));
    this.outgoing = new Lent(places.outgoing.map(blockAt));
    this.pieces = from + places.pieces;
    this.piece = this.pieces;
    this.text = from + places.text;
    this.rows = from + places.rows;
    this.addresses = from + places.addresses;
    this.anchors = from + places.anchors;
    this.edits = from + places.edits;
    this.puts = from + places.puts;
    this.spliced = memory.subarray(from + places.spliced, from + places.spliced + splicedBytes);
    this.ahead = from + places.ahead;
    this.search = from + places.search;
    this.end = from + end;
  }

  /**
   * Where bytes begin an incoming block, it becomes an outgoing one, and the outgoing one that is given for it an incoming
   * one: what does not change need not be copied. Whoever works on the block may read on in it.
   * @returns the block; undefined where they begin none
   */
  passOn(bytes: Buffer, from: number, instead: Buffer): Buffer | undefined {
    if (bytes.buffer !== this.memory.buffer) return undefined;
    const incoming = this.incoming.indexAt(bytes.byteOffset + from);
    const outgoing = this.outgoing.indexAt(instead.byteOffset);
    if (incoming < 0 || outgoing < 0) return undefined;
    const block = this.incoming.swap(incoming, instead);
    this.outgoing.swap(outgoing, block);
    return block;
  }

  /** Makes a place a tenant's own. @returns false where it has been since the tenant was here last */
  take(place: number, tenant: Tenant): boolean {
    const before = this.tenants.get(place);
    if (before === tenant) return false;
    before?.moveOut?.();
    this.tenants.set(place, tenant);
    return true;
  }

  /**
   * Puts bytes of a buffer in the memory, unless they are there. The buffer must not be changed while it is worked on.
   * @returns the offset after the last of them
   */
  load(bytes: Uint8Array, from: number): number {
    const to = Math.min(bytes.length, from + pieceBytes);
    if (bytes.buffer === this.memory.buffer) {
      this.piece = bytes.byteOffset - this.memory.byteOffset + from;
      return to;
    }
    this.piece = this.pieces;
    const { loaded } = this;
    if (loaded.bytes !== bytes || loaded.from !== from || loaded.to !== to) {
      this.memory.set(from === 0 && to === bytes.length ? bytes : bytes.subarray(from, to), this.pieces);
      this.loaded = { bytes, from, to };
    }
    return to;
  }

  /**
   * Puts parts in the memory as one window, where they are not too long for it.
   * @returns the window, which is good until the next one is put there
   */
  window(parts: readonly Uint8Array[], size: number): Buffer {
    if (size > pieceBytes) return Buffer.concat(parts);
    let at = this.pieces;
    for (const part of parts) {
      this.memory.set(part, at);
      at += part.length;
    }
    this.loaded = { bytes: undefined, from: 0, to: 0 };
    return this.memory.subarray(this.pieces, at);
  }

  /** Puts parts right before bytes that are in the memory, with room before them. @returns all of it */
  joined(parts: readonly Uint8Array[], bytes: Buffer): Buffer {
    const end = bytes.byteOffset - this.memory.byteOffset;
    let at = end - parts.reduce((sum, { length }) => sum + length, 0);
    const whole = this.memory.subarray(at, end + bytes.length);
    for (const part of parts) {
      this.memory.set(part, at);
      at += part.length;
    }
    return whole;
  }

  /** A buffer as one that is not in the memory of the kernels. */
  own(bytes: Buffer): Buffer {
    return bytes.buffer === this.memory.buffer ? Buffer.from(bytes) : bytes;
  }

  /** Copies bytes to a place in a buffer; the usual way takes its time where several threads may have the memory. */
  copy(bytes: Buffer, from: number, to: Buffer, at: number, size: number): void {
    if (bytes.buffer !== this.memory.buffer || to.buffer !== this.memory.buffer) {
      bytes.copy(to, at, from, from + size);
      return;
    }
    this.kernels.move(to.byteOffset + at, bytes.byteOffset + from, size);
  }

  /** Puts bytes of a string in the memory. @returns the offset after the last of them */
  loadText(bytes: ByteString, from: number): number {
    const to = Math.min(bytes.length, from + textBytes);
    this.memory.write(to - from === bytes.length ? bytes : bytes.slice(from, to), this.text, 'latin1');
    return to;
  }
}

/** Room for the state of rows, and for patterns and what is found of them. */
const rowsBytes = 32 * 1024;
export const addressesBytes = 512 * 1024;
const searchBytes = 8 * 1024 * 1024;
export const aheadBytes = 2 * 1024 * 1024;

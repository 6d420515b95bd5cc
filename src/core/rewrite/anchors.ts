import { type ByteString, bufferOf } from '../bytes.js';
import type { Rules } from './rules.js';

/** Goes from anchor to anchor in a string, in rising order. */
export interface Anchors {
  readonly s: ByteString;
  /** Offset of the anchor it stands at, or Infinity after the last one. */
  readonly at: number;
  readonly found: string;
  /** Moves to the first anchor at or after an offset, if it stands before that. */
  seek(from: number): number;
}

/** Where the next of one kind of anchor stands. */
interface Next {
  at: number;
  found: string;
}

/** Looks for anchors in a string, remembering the one it stands at. */
export class AnchorCursor implements Anchors {
  at = -1;
  found = '';
  readonly s: ByteString;
  private readonly rules: Rules;
  private readonly bytes: Uint8Array;
  /** The next host, the next path, and the next place for each of the starts of links without their host. */
  private readonly host: Next = { at: -1, found: '' };
  private readonly path: Next = { at: -1, found: '' };
  private readonly roots: { readonly start: string; at: number }[];
  /** The next old address in Base64. */
  private encodedAt = -1;

  /** @param bytes the same as a buffer, where there is one */
  constructor(s: ByteString, rules: Rules, bytes?: Uint8Array) {
    this.s = s;
    this.rules = rules;
    this.bytes = bytes ?? bufferOf(s);
    this.roots = rules.rootStarts.map(start => ({ start, at: -1 }));
  }

  seek(from: number): number {
    if (this.at >= from) return this.at;
    const { host, path } = this;
    if (host.at < from) this.seekHost(from);
    this.at = host.at;
    this.found = host.found;
    if (this.rules.pathAnchors) {
      if (path.at < from) this.seekPath(from, this.rules.pathAnchors);
      if (path.at < this.at) {
        this.at = path.at;
        this.found = path.found;
      }
    }
    for (const root of this.roots) {
      // The anchor is the segment; the slash before it may be escaped.
      if (root.at < from) {
        const next = this.s.indexOf(root.start, from - 1);
        root.at = next < 0 ? Number.POSITIVE_INFINITY : next + 1;
      }
      if (root.at < this.at) {
        this.at = root.at;
        this.found = root.start.slice(1);
      }
    }
    return this.at;
  }

  /** Moves to the first anchor in Base64 at or after an offset, if it stands before that. */
  seekEncoded(from: number): number {
    if (this.encodedAt < from)
      this.encodedAt = this.rules.encodedAnchors?.next(this.bytes, from) ?? Number.POSITIVE_INFINITY;
    return this.encodedAt;
  }

  private seekHost(from: number): void {
    const { hostAnchors, hostNames } = this.rules;
    this.host.at = hostAnchors?.next(this.bytes, from) ?? Number.POSITIVE_INFINITY;
    this.host.found =
      hostAnchors && this.host.at < Number.POSITIVE_INFINITY ? hostNames[hostAnchors.pattern]! : '';
  }

  private seekPath(from: number, anchors: RegExp): void {
    anchors.lastIndex = from;
    const found = anchors.exec(this.s);
    this.path.at = found ? found.index : Number.POSITIVE_INFINITY;
    this.path.found = found ? found[0] : '';
  }
}

/** The anchors of a stretch, looked for once and gone through as often as needed. */
export class KnownAnchors implements Anchors {
  readonly s: ByteString;
  private readonly places: { at: number; found: string }[] = [];
  private index = 0;

  constructor(cursor: AnchorCursor, start: number, end: number) {
    this.s = cursor.s;
    for (let at = cursor.seek(start); at < end; at = cursor.seek(at + 1))
      this.places.push({ at, found: cursor.found });
  }

  get at(): number {
    return this.places[this.index]?.at ?? Number.POSITIVE_INFINITY;
  }

  get found(): string {
    return this.places[this.index]?.found ?? '';
  }

  seek(from: number): number {
    while (this.at < from) this.index++;
    return this.at;
  }

  rewind(): void {
    this.index = 0;
  }
}

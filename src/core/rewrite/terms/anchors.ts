import escapePattern from 'escape-string-regexp';
import { asBytes, type ByteString, Stretch } from '../../bytes.js';
import type { Workbench } from '../../kernels/workbench.js';
import { ManySearch } from '../../search/many.js';

/** What hints at an old address before it is looked at closely, prepared for finding. */
export interface AnchorSearch {
  readonly search: ManySearch;
  /** By a pattern's number. */
  readonly kinds: readonly ('host' | 'path' | 'root' | 'encoded')[];
  readonly texts: readonly string[];
  /** Finds a whole path where its first segment was found. Sticky. */
  readonly wholePath: RegExp | undefined;
}

/**
 * Prepares what to look for.
 * @param hosts in lower case, found in any
 * @param paths each by its segments, found with any kind of slash between them
 * @param rootStarts what links without their host may begin with: a slash and a segment
 */
export function anchorSearch(
  bench: Workbench,
  hosts: readonly string[],
  paths: readonly (readonly string[])[],
  rootStarts: readonly string[],
): AnchorSearch | undefined {
  const encoded = [...hosts, ...paths.map(path => `/${path.join('/')}`)].flatMap(text =>
    base64Anchors(asBytes(text)),
  );
  const patterns = [
    ...longestFirst(hosts).map(text => ({ kind: 'host' as const, text, anyCase: true })),
    ...distinct(paths.flatMap(path => encodings(path[0]!))).map(text => ({
      kind: 'path' as const,
      text,
      anyCase: true,
    })),
    // Right after a word it continues with a longer path, and begins no link.
    ...distinct(rootStarts.flatMap(encodings)).map(text => ({
      kind: 'root' as const,
      text,
      anyCase: false,
      notInWord: true,
    })),
    ...distinct(encoded).map(text => ({ kind: 'encoded' as const, text, anyCase: false })),
  ];
  if (patterns.length === 0) return undefined;
  const folders = paths.map(path => path.map(segmentPattern).join(slash));
  return {
    search: new ManySearch(bench, patterns),
    kinds: patterns.map(({ kind }) => kind),
    texts: patterns.map(({ text }) => text),
    wholePath: folders.length > 0 ? new RegExp(folders.join('|'), 'iy') : undefined,
  };
}

const slash = String.raw`(?:\\*\/|%(?:25)*2f|\\+u002f|&(?:#0*47|#x0*2f|sol);)`;

/** A text as it may be written: some programs encode a tilde, which need not be. */
function encodings(text: string): string[] {
  return text.includes('~') ? ['~', '%7E', '%7e'].map(tilde => text.replaceAll('~', tilde)) : [text];
}

function segmentPattern(segment: string): string {
  return escapePattern(segment).replaceAll('~', '(?:~|%(?:25)*7e)');
}

function distinct(texts: readonly string[]): string[] {
  return [...new Set(texts)];
}

function longestFirst(texts: readonly string[]): string[] {
  return distinct(texts).sort((a, b) => b.length - a.length);
}

/** Goes from anchor to anchor of a run of bytes, in rising order. */
export class AnchorCursor {
  private readonly text: { readonly s: ByteString };
  private readonly places: number[] = [];
  private readonly founds: string[] = [];
  private readonly encoded: number[] = [];
  private rootIsLast = false;
  /** Up to where the anchors, and those in Base64, were gone through. */
  private index = 0;
  private encodedIndex = 0;

  constructor(text: Stretch | ByteString, anchors: AnchorSearch | undefined) {
    this.text = typeof text === 'string' ? { s: text } : text;
    if (!anchors) return;
    const { kinds, texts, wholePath } = anchors;
    const bytes = text instanceof Stretch ? text.bytes : text;
    anchors.search.each(bytes, (at, pattern) => {
      switch (kinds[pattern]) {
        case 'host':
          this.add(at, texts[pattern]!, false);
          break;
        case 'path': {
          wholePath!.lastIndex = at;
          const path = wholePath!.exec(this.s);
          if (path) this.add(at, path[0], false);
          break;
        }
        case 'root':
          // The anchor is the segment; the slash before it may be escaped.
          this.add(at + 1, texts[pattern]!.slice(1), true);
          break;
        default:
          this.encoded.push(at);
      }
    });
  }

  get s(): ByteString {
    return this.text.s;
  }

  /** Offset of the anchor it is at, or Infinity after the last one. */
  get at(): number {
    return this.places[this.index] ?? Number.POSITIVE_INFINITY;
  }

  /** A host's name in lower case, or the bytes of a path as they are there. */
  get found(): string {
    return this.founds[this.index] ?? '';
  }

  /** Moves to the first anchor at or after an offset, if it is before that. */
  seek(from: number): number {
    while (this.at < from) this.index++;
    return this.at;
  }

  /** Moves to the first anchor in Base64 at or after an offset, if it is before that. */
  seekEncoded(from: number): number {
    const { encoded } = this;
    while (this.encodedIndex < encoded.length && encoded[this.encodedIndex]! < from) this.encodedIndex++;
    return encoded[this.encodedIndex] ?? Number.POSITIVE_INFINITY;
  }

  /** Moves to the first anchor, encoded or not, at or after an offset. */
  seekAny(from: number): number {
    return Math.min(this.seek(from), this.seekEncoded(from));
  }

  /** Whether an anchor, encoded or not, is at or after an offset. */
  isAnyFrom(from: number): boolean {
    return (this.places.at(-1) ?? -1) >= from || (this.encoded.at(-1) ?? -1) >= from;
  }

  /** Does something with the anchors from here on, and then is here again. */
  aside<T>(work: () => T): T {
    const { index } = this;
    try {
      return work();
    } finally {
      this.index = index;
    }
  }

  /** Of several anchors at one place the longest host comes before others, and a link's start comes last. */
  private add(at: number, found: string, isRoot: boolean): void {
    const { places, founds } = this;
    const last = places.length - 1;
    if (places[last] === at) {
      if (this.rootIsLast) founds[last] = found;
    } else {
      places.push(at);
      founds.push(found);
    }
    this.rootIsLast = isRoot;
  }
}

/**
 * What is in Base64 wherever a text is in the bytes that are encoded: three stretches, by where among the
 * groups of three bytes the text begins. Those shorter than six characters would be found everywhere and are left out.
 */
function base64Anchors(text: ByteString): string[] {
  const anchors = [0, 1, 2].map(before => {
    const encoded = Buffer.from('\0'.repeat(before) + text, 'latin1').toString('base64');
    const from = Math.ceil((before * 8) / 6);
    return encoded.slice(from, Math.floor(((before + text.length) * 8) / 6));
  });
  return anchors.filter(anchor => anchor.length >= 6);
}

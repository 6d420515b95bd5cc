import type { EditList, Noted } from '../kernels/edit-list.js';
import { mostEdits, pieceBytes, type Workbench } from '../kernels/workbench.js';
import type { Dialect } from './literal.js';

/** Why the lexer stops; kernels/rows.ts names the same. */
export const stops = {
  /** All of the window was gone through. */
  atEnd: 0,
  /** After a literal that is to be shown: it is between `start` and `end`. */
  atLiteral: 1,
  /** Before what may be a literal in hex. */
  atHex: 2,
  /** After the closing bracket of a row. */
  atRow: 3,
  /** Before the first byte of the delimiter. */
  atDelimiter: 4,
  /** Before what may be a quoted name or a comment. */
  atAside: 5,
  /** Before the quote of a literal that does not end in the window. */
  inLiteral: 6,
  /** Before a byte that is no part of a literal or a number, and no mark. */
  atWord: 7,
} as const;

/** The layout of the state is described in kernels/rows.ts. */
const at = 0;
const depth = 1;
const column = 2;
const rowStart = 3;
const start = 4;
const end = 5;
const rows = 6;
const quiet = 7;
const touched = 8;
const backslash = 9;
const stopAtRows = 10;
const last = 11;
const quote = 12;
const noDelimiter = 13;
const anchors = 14;
const anchorCount = 15;
const nextAnchor = 16;
const addresses = 17;
const edits = 18;
const editRoom = 19;
const editCount = 20;
const numbers = 21;
const meaningsAt = 96;
const countsAt = meaningsAt + 256;
const columns = 4100;
const shownAt = countsAt + 4 * columns;
const stateBytes = shownAt + columns;

/** What a byte may be between literals. */
const marks: Record<string, number> = {
  "'": 1,
  '"': 1,
  '(': 2,
  ')': 3,
  ',': 4,
  '0': 5,
  X: 5,
  x: 5,
  '-': 6,
  '/': 7,
  '`': 8,
  '#': 8,
};
/** What is between literals besides marks: white space, and what numbers are made of. */
const silent = ' \t\r\n0123456789+.';
const wordMark = 9;
const delimiterMark = 0x80;

/**
 * Which literals of a column are shown: those that the kernels leave to others, with them those in which they see an old
 * address, or an anchor, or all; kernels/rows.ts says the same.
 */
export type Showing = 'where needed' | 'with address' | 'with anchor' | 'always';
const showings: Record<Showing, number> = {
  'where needed': 0,
  'with address': 3,
  'with anchor': 2,
  always: 1,
};

/** Who receives what was skipped. */
interface PassedVisitor {
  rowsEnded?(count: number): void;
  literalsPassed?(column: number, literals: number): void;
  noted?: Noted;
}

/**
 * Goes through the rows of INSERTs from one thing that is to be shown to the next, and counts what it skips:
 * rows, and literals by their column. Offsets are those of the window.
 */
export class RowLexer {
  private readonly bench: Workbench;
  /** The state while another lexer works. */
  private readonly kept = Buffer.alloc(stateBytes);
  private readonly state: Int32Array;
  private readonly memory: Buffer;
  private readonly list: EditList;
  /** The delimiter for which it is written what bytes mean. */
  private delimiter = '';
  /** So many columns at least have it said which of their literals are shown. */
  private shown = columns;
  private bytes: Uint8Array = this.kept;
  /** The offset of the first byte of the window that is in the memory. */
  private base = 0;

  /** @param list takes the edits that the kernels note */
  constructor(bench: Workbench, stopsAtRows: boolean, list: EditList) {
    this.bench = bench;
    this.list = list;
    const { memory, rows: place } = bench;
    this.memory = memory.subarray(place, place + stateBytes);
    this.state = new Int32Array(memory.buffer, memory.byteOffset + place, numbers);
    this.own();
    this.state[stopAtRows] = stopsAtRows ? 1 : 0;
  }

  moveOut(): void {
    this.memory.copy(this.kept);
  }

  private own(): void {
    if (this.bench.take(this.bench.rows, this)) this.kept.copy(this.memory);
  }

  get at(): number {
    return this.state[at]!;
  }

  get start(): number {
    return this.state[start]!;
  }

  get end(): number {
    return this.state[end]!;
  }

  /** The column in which it is, from 0. */
  get column(): number {
    return this.state[column]!;
  }

  /** How many brackets are open. */
  get depth(): number {
    return this.state[depth]!;
  }

  /** Where the row in which it is begins; negative where that was before the window. */
  get rowStart(): number {
    return this.state[rowStart]!;
  }

  /** Begins with the rows of a statement. @param showing by column, as far as that is known */
  begin(delimiter: string, dialect: Dialect, showing: readonly Showing[] = []): void {
    this.own();
    const { state, memory } = this;
    state[depth] = 0;
    state[backslash] = dialect.backslash ? 1 : 0;
    // Where each row is a statement, this is what takes time.
    if (delimiter !== this.delimiter) {
      this.delimiter = delimiter;
      memory.fill(wordMark, meaningsAt, countsAt);
      for (const char of silent) memory[meaningsAt + char.charCodeAt(0)] = 0;
      for (const [char, mark] of Object.entries(marks)) memory[meaningsAt + char.charCodeAt(0)] = mark;
      const first = meaningsAt + delimiter.charCodeAt(0);
      memory[first]! |= delimiterMark;
    }
    for (let i = showing.length; i < this.shown; i++) memory[shownAt + i] = showings['with anchor'];
    this.shown = 0;
    for (let i = 0; i < showing.length; i++) this.show(i, showing[i]!);
  }

  /** Says which literals of a column are shown. */
  show(column: number, showing: Showing): void {
    if (column >= columns) return;
    this.memory[shownAt + column] = showings[showing];
    this.shown = Math.max(this.shown, column + 1);
  }

  /**
   * A new window, that begins so many bytes after the one before.
   * @param known how many anchors of it the workbench keeps, where it does
   */
  window(bytes: Uint8Array, later: number, known: number | undefined): void {
    this.own();
    const { state, bench } = this;
    this.bytes = bytes;
    this.base = 0;
    state[rowStart]! -= later;
    state[anchors] = known === undefined ? 0 : bench.anchors;
    state[anchorCount] = known ?? 0;
    state[nextAnchor] = 0;
    state[addresses] = bench.addresses;
    state[edits] = bench.edits;
    state[editRoom] = mostEdits;
  }

  /**
   * Continues to the next stop.
   * @param quietUntil literals that end not after it are skipped, where anchors are not known
   * @param ending whether the window is the last one
   * @param passing an offset at which no delimiter is seen
   */
  next(from: number, quietUntil: number, ending: boolean, passing = -1): number {
    this.own();
    const { state, bench, bytes } = this;
    state[at] = from;
    state[quiet] = Math.min(quietUntil, 0x7fffffff);
    state[noDelimiter] = passing;
    state[quote] = 0;
    state[editCount] = this.list.count;
    if (from < this.base || from >= this.base + pieceBytes) this.base = from;
    for (;;) {
      const until = bench.load(bytes, this.base);
      const whole = until === bytes.length;
      state[last] = whole && ending ? 1 : 0;
      const why = bench.kernels.rows(bench.piece - this.base, until, bench.rows);
      if (whole) {
        if (why === stops.inLiteral) state[at] = state[start]! - 1;
        return why;
      }
      // The piece may have ended in the middle of something.
      const perhaps = why === stops.atHex || why === stops.atAside;
      const cut = why === stops.atEnd || why === stops.inLiteral || (perhaps && state[at] === until - 1);
      if (!cut) return why;
      this.base = state[at]!;
    }
  }

  /** Reports what was skipped on the way to a stop, and what edits were noted. Call it at each stop. */
  passed(visitor: PassedVisitor): void {
    const { state, memory } = this;
    if (state[rows] !== 0) {
      visitor.rowsEnded?.(state[rows]!);
      state[rows] = 0;
    }
    for (let i = 0; i < state[touched]!; i++) {
      const count = memory.readInt32LE(countsAt + 4 * i);
      if (count === 0) continue;
      visitor.literalsPassed?.(i, count);
      memory.writeInt32LE(0, countsAt + 4 * i);
    }
    state[touched] = 0;
    const before = this.list.count;
    this.list.count = state[editCount]!;
    if (before < this.list.count) this.list.replay(before, (...noted) => visitor.noted?.(...noted));
  }
}

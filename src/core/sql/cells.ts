import { type Dialect, endOfString, openLiteral } from './literal.js';

/** A cell's value as bytes; null for NULL, undefined for an expression that only a server can compute. */
export type Cell = Buffer | null | undefined;

/** Opens the cells of rows that a scanner passes on piece by piece (see `DumpVisitor.rowBytes`). */
export class RowCells {
  private readonly take: (cells: Cell[]) => void;
  private rest = '';

  constructor(take: (cells: Cell[]) => void) {
    this.take = take;
  }

  /** Takes a piece of rows as they are in the dump; it ends where a literal or a mark does. */
  push(piece: string, dialect: Dialect): void {
    const s = this.rest + piece;
    let at = 0;
    for (;;) {
      const open = s.indexOf('(', at);
      if (open < 0) break;
      const end = this.row(s, open + 1, dialect);
      if (end < 0) {
        this.rest = s.slice(open);
        return;
      }
      at = end;
    }
    this.rest = '';
  }

  /** Reads one row; gives the offset after its bracket, or -1 where the piece ends before. */
  private row(s: string, from: number, dialect: Dialect): number {
    const cells: Cell[] = [];
    let at = from;
    for (;;) {
      mark.lastIndex = at;
      const head = mark.exec(s);
      if (!head) return -1;
      const [, quote, hex, quotedHex, bits, word] = head;
      const digits = hex ?? quotedHex;
      at = mark.lastIndex;
      if (quote !== undefined) {
        const end = endOfString(s, at, quote, dialect, true);
        if (end < 0) return -1;
        const { value } = openLiteral(s, at, end, quote.charCodeAt(0), dialect);
        cells.push(Buffer.from(value, 'latin1'));
        at = end + 1;
      } else if (digits !== undefined) {
        const even = digits.length % 2 === 0 ? digits : `0${digits}`;
        cells.push(Buffer.from(even, 'hex'));
      } else if (bits !== undefined) cells.push(bytesOfBits(bits));
      else cells.push(cellOfWord(word!));
      closing.lastIndex = at;
      const close = closing.exec(s);
      if (close) {
        at = closing.lastIndex;
        if (close[1] === ',') continue;
        this.take(cells);
        return at;
      }
      // An expression, such as a function of a literal.
      cells[cells.length - 1] = undefined;
      at = endOfExpression(s, at, dialect);
      if (at < 0) return -1;
      if (s[at] === ',') {
        at++;
        continue;
      }
      this.take(cells);
      return at + 1;
    }
  }
}

/** What may stand between cells: white space and comments that are no code. */
const gap = String.raw`(?:\s|\/\*(?!M?!).*?\*\/)*`;
const introducer = String.raw`(?:_\w+\s*)?`;
/** A quote that opens a string, hex digits in either way of writing them, bits, or a word or number. */
const mark = new RegExp(
  `${gap}(?:${introducer}(['"])|${introducer}(?:0x([0-9a-fA-F]*)(?!\\w)|[xX]'([0-9a-fA-F]*)')|[bB]'([01]*)'|([^\\s,()'"/]+))`,
  'ys',
);
const closing = new RegExp(`${gap}([,)])`, 'ys');

function cellOfWord(word: string): Cell {
  if (/^null$/i.test(word)) return null;
  return /^[-+]?\.?\d/.test(word) ? Buffer.from(word, 'latin1') : undefined;
}

function bytesOfBits(bits: string): Buffer {
  const whole = bits.padStart(Math.ceil(bits.length / 8) * 8, '0');
  return Buffer.from((whole.match(/.{8}/g) ?? []).map(byte => Number.parseInt(byte, 2)));
}

/** The offset of the comma or bracket that ends an expression; -1 where the text ends before. */
function endOfExpression(s: string, from: number, dialect: Dialect): number {
  let depth = 0;
  for (let at = from; at < s.length; at++) {
    const c = s[at]!;
    if (c === "'" || c === '"') {
      at = endOfString(s, at + 1, c, dialect, true);
      if (at < 0) return -1;
    } else if (c === '(') depth++;
    else if (c === ')' && depth-- === 0) return at;
    else if (c === ',' && depth === 0) return at;
  }
  return -1;
}

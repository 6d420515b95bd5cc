import { asBytes, type ByteString, type Edit, Stretch } from '../bytes.js';
import { DamageError } from '../errors.js';
import { EditList } from '../kernels/edit-list.js';
import type { Workbench } from '../kernels/workbench.js';
import { type Allowed, isAllowed, StatementJudge } from './judge/judge.js';
import { longestWord, wordLength } from './judge/rows.js';
import type { Dialect } from './literal.js';
import { RowLexer, type Showing, stops } from './row-lexer.js';
import { endOfAside, endOfHex, endOfStatement, needMore, unquoteName, versioned } from './tokens.js';

/** The head of an INSERT or REPLACE, before its rows. Offsets are in the text that is given with it. */
export interface InsertHead {
  readonly table: string;
  /** Where the table's name is, with its quotes and the database's name if there is one. */
  readonly nameStart: number;
  readonly nameEnd: number;
  /** The columns that it lists, or undefined where it lists none. */
  readonly columns: readonly string[] | undefined;
}

/** A string literal of a row. Offsets are in the current window, between the quotes. */
export interface CellLiteral {
  readonly s: ByteString;
  readonly start: number;
  readonly end: number;
  /** The character code of its quotes. */
  readonly quote: number;
  /** Which column of the row it is in, from 0. */
  readonly column: number;
}

/** What reads a dump as it streams by. Each method may give edits, with offsets in the current window. */
export interface DumpVisitor {
  /**
   * Literals that end not after this offset of the window need not be shown, only counted. Where it is not given, all
   * are shown to who takes them.
   */
  readonly quietUntil?: number;
  /** A new stretch of the dump is at hand. */
  window?(stretch: Stretch): void;
  /** Whether the rows of a table are wanted, or why they are refused. Those that are not are left out of what is passed on. */
  wanted?(table: string): boolean | string;
  /**
   * An INSERT or REPLACE begins; `start` and `end` bound its head in a text, up to where its rows begin. The edits' offsets
   * are in that text.
   */
  insert?(head: InsertHead, s: ByteString, start: number, end: number): readonly Edit[] | undefined;
  /**
   * Finds what is to be rewritten in a new window, and leaves it where the workbench keeps anchors: the kernels then
   * rewrite what they can, and show the rest. Undefined where they must not.
   */
  anchors?(bytes: Buffer): number | undefined;
  /**
   * The kernels noted edits before what is shown next: in a column, of an address (see common-addresses.ts; -1 where there
   * are lengths only), in so many literals, so often.
   */
  noted?(column: number, address: number, literals: number, times: number): void;
  /** Which literals are shown of the columns of the rows that begin, as far as they are known; and of one column. */
  showings?(): readonly Showing[];
  showing?(column: number): Showing;
  literal?(literal: CellLiteral, dialect: Dialect): readonly Edit[] | undefined;
  /** So many literals of a column were not shown. */
  literalsPassed?(column: number, literals: number): void;
  /** A literal in hex; `start` and `end` bound its digits. */
  hex?(s: ByteString, start: number, end: number, column: number): readonly Edit[] | undefined;
  /** So many rows have ended. It is called before anything is shown that is after them. */
  rowsEnded?(count: number): void;
  /** A row is at its end: the offset after its closing bracket. Edits may take in the comma after it. */
  row?(end: number, stretch: Stretch): readonly Edit[] | undefined;
  /** Bytes of rows as they are in the dump, brackets and commas with them. */
  rowBytes?(stretch: Stretch, start: number, end: number): void;
  /** A statement does more than dumps do: it is left out of what is passed on, and not shown. */
  refused?(statement: RefusedStatement): void;
  /**
   * Whether a statement that is not an INSERT of rows is left out of what is passed on, or why it is refused. It is not shown
   * then.
   */
  leavesOut?(named: Allowed): boolean | string;
  /** Any other statement, whole, without its delimiter. */
  statement?(s: ByteString, start: number, end: number, dialect: Dialect): readonly Edit[] | undefined;
}

/** A statement that was left out. */
export interface RefusedStatement {
  /** Where it is in the dump, in bytes, and how it begins: as bytes, without any value. */
  readonly at: number;
  readonly head: ByteString;
  readonly why: string;
}

/** What takes a dump chunk by chunk. */
export interface Outlet {
  (chunk: Buffer): void;
  /** Where in the memory of the workbench the next chunk may be put, so that it need not be copied there. */
  readonly place?: () => Buffer | undefined;
}

const nobody: DumpVisitor = {};
/** Bytes that are looked at together: a string of so many is cheap to make and to forget, a longer one is not. */
const windowBytes = 96 * 1024;
/** Heads of INSERTs are mostly shorter. */
const shortHead = 512;
const largestStatement = 64 * 1024 * 1024;
/** No server takes a longer value, and no string of the language is much longer. */
const longestValue = 300 * 1024 * 1024;

/**
 * Reads an SQL dump as a stream of chunks and gives its statements, rows and string literals to a visitor.
 * Everything that the visitor does not edit is passed on byte for byte. Memory is bounded by the longest single
 * literal (or statement that is not an INSERT), not by the dump.
 */
export class DumpScanner {
  dialect: Dialect = { backslash: true };
  private readonly visitor: DumpVisitor;
  private readonly emit: Outlet | undefined;
  private pending: Buffer[] = [];
  private pendingBytes = 0;
  private need = 0;
  private offset = 0;
  /** Bytes of the window before that were done with. */
  private lastWindow = 0;
  /** The last of them. */
  private lastByte = 0;
  private mode: 'between' | 'rows' = 'between';
  private delimiter = ';';
  /** The table whose rows are read, as it is and as it is there. */
  private table = '';
  private name = '';
  private readonly lexer: RowLexer;
  private readonly judge = new StatementJudge();
  private dropping = false;
  private statements = 0;
  private headed = false;
  private completed = false;
  private readonly edits: EditList;
  private readonly bench: Workbench;

  /**
   * @param emit takes the dump as it is after the visitor's edits; leave it out to look only. Its chunk is good until
   *   the call ends
   */
  constructor(bench: Workbench, visitor: DumpVisitor, emit?: Outlet) {
    this.bench = bench;
    this.visitor = visitor;
    this.emit = emit;
    this.edits = new EditList(bench);
    this.lexer = new RowLexer(bench, visitor.row !== undefined, this.edits);
  }

  /** Where the row that is being read begins in the window; negative where that was before it. */
  get rowStart(): number {
    return this.lexer.rowStart;
  }

  /**
   * @param chunk may be changed after the call
   * @param before how much room there is before it, where it is a block of the workbench
   * @throws DamageError when the bytes cannot be an SQL dump
   */
  push(chunk: Buffer, before = 0): void {
    if (this.pendingBytes <= before && this.pendingBytes + chunk.length >= this.need && before > 0) {
      this.workInPlace(this.bench.joined(this.pending, chunk));
      return;
    }
    const given = this.bench.own(chunk);
    for (let at = 0; at < given.length; at += windowBytes) {
      const piece = given.subarray(at, at + windowBytes);
      this.pendingBytes += piece.length;
      const enough = this.pendingBytes >= this.need;
      this.pending.push(enough ? piece : Buffer.from(piece));
      if (enough) this.work(false);
    }
  }

  /** @throws DamageError when the dump ends too early */
  finish(): void {
    this.work(true);
    if (this.mode === 'rows') throw this.truncated(`inside the rows of the table ${this.table}`);
    if (this.statements === 0) {
      throw this.damage(
        'there is no SQL statement in it',
        'Check that this is the dump and not another file',
      );
    }
    if (this.headed && !this.completed) {
      throw this.truncated('without the line "Dump completed" that its program writes last');
    }
  }

  private work(last: boolean): void {
    const bytes = this.bench.window(this.pending, this.pendingBytes);
    this.keep(bytes, this.workOn(bytes, last));
  }

  /** Works on bytes window by window, where they lie. */
  private workInPlace(bytes: Buffer): void {
    let at = 0;
    let to = this.pendingBytes;
    while (to < bytes.length) {
      to = Math.min(bytes.length, Math.max(to + windowBytes, at + this.need));
      const window = bytes.subarray(at, to);
      at += this.workOn(window, false);
    }
    this.keep(bytes, at);
  }

  /** Keeps what is not done with. */
  private keep(bytes: Buffer, from: number): void {
    const rest = Buffer.from(bytes.subarray(from));
    this.pending = [rest];
    this.pendingBytes = rest.length;
  }

  /** @returns the offset up to which everything is done with */
  private workOn(bytes: Buffer, last: boolean): number {
    const stretch = new Stretch(bytes);
    this.edits.begin(bytes);
    this.lexer.window(bytes, this.lastWindow, this.visitor.anchors?.(bytes));
    this.visitor.window?.(stretch);
    const end = this.scan(stretch, last);
    this.lastWindow = end;
    if (end > 0) this.lastByte = bytes[end - 1]!;
    const { emit } = this;
    if (emit && end > 0) emit(this.edits.applied(end, emit.place?.()));
    this.offset += end;
    const rest = bytes.length - end;
    this.need = rest > bytes.length / 2 ? Math.min(rest * 2, longestValue + 1) : 0;
    if (last && rest > 0) throw this.truncated('inside a statement');
    if (rest > largestStatement && this.mode === 'between') {
      throw this.damage('a statement has no end', 'Check that this is an SQL dump');
    }
    if (rest > longestValue) {
      throw this.damage(
        `a value of the table ${this.table} has no end`,
        'Check that this is an SQL dump, and that it was not changed by an editor or a transfer',
      );
    }
    return end;
  }

  /** Reads as far as whole tokens go; gives the offset up to which everything is done with. */
  private scan(stretch: Stretch, last: boolean): number {
    const { bytes } = stretch;
    let at = this.offset === 0 ? this.skipMark(bytes) : 0;
    while (at < bytes.length) {
      const inRows = this.mode === 'rows';
      const next = inRows ? this.scanRows(stretch, at, last) : this.scanBetween(stretch, at, last);
      if (next === needMore) break;
      if (inRows && this.dropping) this.edits.add({ start: at, end: next, put: asBytes('') });
      at = next;
    }
    return at;
  }

  private skipMark(bytes: Buffer): number {
    const [a, b, c] = bytes;
    if ((a === 0xff && b === 0xfe) || (a === 0xfe && b === 0xff)) {
      throw this.damage('it is written in UTF-16', 'Convert it to UTF-8 first, or dump again as UTF-8');
    }
    return a === 0xef && b === 0xbb && c === 0xbf ? 3 : 0;
  }

  /** One step between statements: white space, a comment, a DELIMITER line, or a statement. */
  private scanBetween(stretch: Stretch, at: number, last: boolean): number {
    if (stretch.bytes[at]! <= 0x20) return at + 1;
    return this.scanShortHead(stretch.bytes, at) ?? this.scanAny(stretch.s, at, last);
  }

  /** The head of an INSERT, where it is short, as nearly all are: the window need not become a string for it. */
  private scanShortHead(bytes: Buffer, at: number): number | undefined {
    const s = asBytes(bytes.toString('latin1', at, at + shortHead));
    insertHead.lastIndex = 0;
    const found = insertHead.exec(s);
    if (!found) return undefined;
    this.statements++;
    return at + this.beginInsert(s, 0, found, at);
  }

  private scanAny(s: ByteString, at: number, last: boolean): number {
    const code = s.charCodeAt(at);
    if (s.startsWith(this.delimiter, at)) return at + this.delimiter.length;
    if (code === 0x23 || (code === 0x2d && /^--(?:\s|$)/.test(s.slice(at, at + 3))))
      return this.skipLine(s, at, last);
    if (code === 0x2f && s[at + 1] === '*' && !versioned(s, at)) {
      const end = s.indexOf('*/', at + 2);
      return end < 0 ? needMore : end + 2;
    }
    if (!last && s.length - at < 16) return needMore;
    if (/^delimiter[ \t]/i.test(s.slice(at, at + 10))) {
      const end = s.indexOf('\n', at);
      if (end < 0 && !last) return needMore;
      this.delimiter = s.slice(at + 10, end < 0 ? s.length : end).trim() || ';';
      return end < 0 ? s.length : end + 1;
    }
    if (!opensStatement(s, at)) {
      const system = otherSystem(s.slice(at, at + 24));
      if (system) throw this.damage(`it is a dump of ${system}`, onlyOurs);
      throw this.damage(
        `what is at byte ${this.offset + at} is not SQL: ${JSON.stringify(s.slice(at, at + 40))}`,
        'Check that this is an SQL dump, and that it was not changed by an editor or a transfer',
      );
    }
    this.statements++;
    return this.scanInsertHead(s, at, last) ?? this.scanStatement(s, at, last);
  }

  private skipLine(s: ByteString, at: number, last: boolean): number {
    const end = s.indexOf('\n', at);
    if (end < 0 && !last) return needMore;
    if (/^-- (?:MariaDB|MySQL|Able Porter \S+) dump /.test(s.slice(at, at + 40))) this.headed = true;
    if (s.startsWith('-- Dump completed', at)) this.completed = true;
    if (s.startsWith('-- PostgreSQL database', at)) throw this.damage('it is a dump of PostgreSQL', onlyOurs);
    return end < 0 ? s.length : end + 1;
  }

  private scanInsertHead(s: ByteString, at: number, last: boolean): number | undefined {
    insertWord.lastIndex = at;
    if (!insertWord.test(s)) return undefined;
    insertHead.lastIndex = at;
    const found = insertHead.exec(s);
    if (!found) {
      // The head may only be cut off by the window's end.
      if (!last && s.length - at < 65536 && s.indexOf(';', at) < 0) {
        this.statements--;
        return needMore;
      }
      return undefined;
    }
    return this.beginInsert(s, at, found, 0);
  }

  /**
   * @param found what `insertHead` found at an offset of the text @param shift where in the window the text begins
   * @returns the offset in the text after the head
   */
  private beginInsert(s: ByteString, at: number, found: RegExpExecArray, shift: number): number {
    const [head, before, name, list] = found;
    const end = at + head.length;
    if (name !== this.name) {
      this.name = name!;
      this.table = unquoteName(name!);
    }
    this.mode = 'rows';
    const isElsewhere = /[`"\w$\x80-\xff]\s*\./.test(name!.replace(/`(?:[^`]|``)+`|"[^"]+"/g, '"'));
    const wanted = isElsewhere
      ? 'it names something of another database'
      : (this.visitor.wanted?.(this.table) ?? true);
    if (typeof wanted === 'string') this.refuse(shift + at, head, wanted);
    this.dropping = wanted !== true;
    if (this.dropping) {
      this.edits.add({ start: shift + at, end: shift + end, put: asBytes('') });
      this.lexer.begin(this.delimiter, this.dialect);
      return end;
    }
    const nameStart = at + before!.length;
    const columns = list === undefined ? undefined : namesIn(list);
    const insert = { table: this.table, nameStart, nameEnd: nameStart + name!.length, columns };
    this.take(this.visitor.insert?.(insert, s, at, end), shift);
    this.lexer.begin(this.delimiter, this.dialect, this.visitor.showings?.());
    return end;
  }

  /** @param shift is added to their offsets */
  private take(edits: readonly Edit[] | undefined, shift = 0): void {
    for (const edit of edits ?? []) {
      const { start, end, put } = edit;
      this.edits.add(shift === 0 ? edit : { start: start + shift, end: end + shift, put });
    }
  }

  /** Rows up to the end of their statement, or of the window. */
  private scanRows(stretch: Stretch, from: number, last: boolean): number {
    const visitor = this.dropping ? nobody : this.visitor;
    const end = this.followRows(visitor, stretch, from, last);
    if (end === needMore) return needMore;
    visitor.rowBytes?.(stretch, from, this.mode === 'rows' ? end : end - this.delimiter.length);
    return end;
  }

  private followRows(visitor: DumpVisitor, stretch: Stretch, from: number, last: boolean): number {
    const { bytes } = stretch;
    const { lexer, delimiter } = this;
    let passing = -1;
    for (let at = from; ; ) {
      const quietUntil = visitor.literal ? (visitor.quietUntil ?? -1) : Number.POSITIVE_INFINITY;
      const why = lexer.next(at, quietUntil, last, passing);
      lexer.passed(visitor);
      at = lexer.at;
      let next: number = at;
      switch (why) {
        case stops.atEnd:
          return at;
        case stops.atLiteral: {
          const { start, end, column } = lexer;
          const literal = { s: stretch.s, start, end, quote: bytes[start - 1]!, column };
          this.take(visitor.literal?.(literal, this.dialect));
          if (visitor.showing) lexer.show(column, visitor.showing(column));
          break;
        }
        case stops.atRow:
          this.take(visitor.row?.(at, stretch));
          break;
        case stops.atDelimiter:
          if (bytes.toString('latin1', at, at + delimiter.length) === delimiter) {
            if (lexer.depth !== 0) throw this.brokenRow(at);
            this.mode = 'between';
            return at + delimiter.length;
          }
          if (!last && bytes.length - at < delimiter.length) next = needMore;
          else passing = at;
          break;
        case stops.atHex:
          next = endOfHex(stretch.s, at, bytes.length, last);
          if (next > at + 4) {
            const digits = bytes[next - 1] === 0x27 ? next - 1 : next;
            this.take(visitor.hex?.(stretch.s, at + 2, digits, lexer.column));
          }
          if (next === at) next++;
          break;
        case stops.atAside:
          next = this.asideInRow(stretch.s, at, last);
          break;
        case stops.atWord:
          next = this.wordInRow(stretch, at, last);
          break;
        default:
          next = needMore;
      }
      if (next === needMore) return at === from ? needMore : at;
      at = next;
    }
  }

  private scanStatement(s: ByteString, at: number, last: boolean): number {
    const end = endOfStatement(s, at, this.delimiter, this.dialect, last);
    if (end === needMore) {
      if (last && /^(?:commit|unlock|set|use)\b[^']*$/i.test(s.slice(at, at + 200))) return s.length;
      this.statements--;
      return needMore;
    }
    const after = end + this.delimiter.length;
    const text = s.slice(at, end);
    const verdict = this.judge.judge(text);
    const out = isAllowed(verdict) ? this.visitor.leavesOut?.(verdict) : verdict.why;
    if (typeof out === 'string') this.refuse(at, text, out);
    if (out) {
      this.edits.add({ start: at, end: after, put: asBytes('') });
      return after;
    }
    this.take(this.visitor.statement?.(s, at, end, this.dialect));
    this.dialect = this.judge.dialect;
    return after;
  }

  private refuse(at: number, statement: string, why: string): void {
    this.visitor.refused?.({ at: this.offset + at, head: headOf(statement), why });
  }

  /** A comment between literals: the offset after it. @throws DamageError where it is code to some servers */
  private asideInRow(s: ByteString, at: number, last: boolean): number {
    const opening = s.slice(at, at + 4);
    if (!last && opening.length < 4) return needMore;
    const isCode = opening[0] === '`' || /^\/\*(?:[!+]|M!)/.test(opening);
    if (!isCode || this.dropping || (opening[0] === '`' && this.lexer.depth === 0))
      return endOfAside(s, at, last);
    throw this.damage(
      `a row of the table ${this.table} holds what only some servers read, or a name, at byte ${this.offset + at}`,
      broken,
    );
  }

  /** A word between literals: the offset after it. @throws DamageError where it has a server compute something */
  private wordInRow({ bytes }: Stretch, at: number, last: boolean): number {
    if (!last && bytes.length - at < longestWord) return needMore;
    const before = at > 0 ? bytes[at - 1]! : this.lastByte;
    const text = bytes.toString('latin1', at, at + longestWord);
    const length = this.dropping ? 1 : wordLength(text, this.lexer.depth, before);
    if (length > 0) return at + length;
    throw this.damage(
      `a row of the table ${this.table} holds what a server would compute, at byte ${this.offset + at}: ${JSON.stringify(/^[^'"]{0,30}/.exec(text)![0])}`,
      broken,
    );
  }

  private brokenRow(at: number): DamageError {
    return this.damage(
      `a row of the table ${this.table} is not closed at byte ${this.offset + at}`,
      'It was changed by an editor or a transfer: take the dump again',
    );
  }

  private truncated(where: string): DamageError {
    return this.damage(`it ends ${where}`, 'It is cut short: take the dump again, or carry the file again');
  }

  private damage(cause: string, remedy: string): DamageError {
    return new DamageError({ doing: 'Reading the dump', cause, remedy });
  }
}

const insertWord = /(?:insert|replace)\s/iy;
const insertHead =
  /((?:insert|replace)\s+(?:(?:low_priority|delayed|high_priority)\s+)?(?:ignore\s+)?(?:into\s+)?)((?:(?:`(?:[^`]|``)+`|"[^"]+"|[\w$\x80-\xff]+)\.)?(?:`(?:[^`]|``)+`|"[^"]+"|[\w$\x80-\xff]+))\s*(?:\(((?:[\s,]|`(?:[^`]|``)+`|"[^"]+"|[\w$\x80-\xff]+)*)\)\s*)?values?\s*(?=\()/iy;

const openers =
  /^(?:\/\*M?!|\(|(?:alter|analyze|backup|begin|binlog|cache|call|change|check|commit|create|deallocate|delete|delimiter|describe|do|drop|execute|explain|flush|grant|handler|help|import|insert|install|kill|load|lock|optimize|prepare|purge|release|rename|repair|replace|reset|restart|revoke|rollback|savepoint|select|set|show|shutdown|signal|source|start|stop|table|truncate|uninstall|unlock|update|use|values|with|xa)\b)/i;

const broken =
  'The file may be damaged: take the dump again, or carry the file again. If it was written so, take it with a program that writes values';
const onlyOurs = 'Only databases of MariaDB and MySQL can be moved';

/** The database system whose dumps have such a statement, where it is another than ours. */
function otherSystem(s: string): string | undefined {
  if (/^pragma\b/i.test(s)) return 'SQLite';
  if (/^(?:copy\s|\\(?:connect|restrict|unrestrict|\.))/i.test(s)) return 'PostgreSQL';
  return /^(?:go\b|print\b|exec\b|\[dbo\])/i.test(s) ? 'SQL Server' : undefined;
}

function opensStatement(s: string, at: number): boolean {
  return openers.test(s.slice(at, at + 16));
}

/** How a statement begins, without any value: in those for users that may be a password. */
function headOf(statement: string): ByteString {
  return asBytes(/^[^'"(]{0,80}/.exec(statement)![0].replace(/\s+/g, ' ').trim());
}

function namesIn(list: string): string[] {
  return (list.match(/`(?:[^`]|``)+`|"[^"]+"|[^\s,`"]+/g) ?? []).map(unquoteName);
}

import { applyEdits, asBytes, type ByteString, type Edit, Stretch, textOf } from '../../bytes.js';
import type { ManySearch } from '../../search/many.js';
import { looksSerialized } from '../../serialized/spans.js';
import { readAssignments } from '../../sql/assignments.js';
import { readCreateTable } from '../../sql/create-table.js';
import type { Allowed } from '../../sql/judge/judge.js';
import {
  type Dialect,
  EscapedText,
  editsInLiteral,
  hasDoubledQuote,
  openLiteral,
} from '../../sql/literal.js';
import { mostLeftOut, namesOthers, rowsOf, type TableRows } from '../../sql/row-count.js';
import type { Showing } from '../../sql/row-lexer.js';
import {
  type CellLiteral,
  DumpScanner,
  type DumpVisitor,
  type InsertHead,
  type Outlet,
  type RefusedStatement,
} from '../../sql/scanner.js';
import { renameTables } from '../../sql/table-names.js';
import { excerpt, showable } from '../../text/display.js';
import { CommonAddresses, commonForm, commonPair } from '../match/common-addresses.js';
import type { Region } from '../match/match.js';
import type { LeftList } from '../report/left-list.js';
import { type Observer, observerOf, unnoted } from '../report/observer.js';
import { sampleChange } from '../report/samples.js';
import { type PlaceTally, Tally, wantsSample } from '../report/tally.js';
import { AnchorCursor } from '../terms/anchors.js';
import type { Globs } from '../terms/globs.js';
import { type PrefixChange, type PrefixedData, prefixedColumn, renamed } from '../terms/prefix.js';
import type { Rules } from '../terms/rules.js';
import type { LeftWhy, Scope } from '../terms/scope.js';
import { deflatedEdit, inflated } from './deflated.js';
import { editsInEscaped } from './escaped.js';
import { editsInText } from './text.js';
import { editsInValue, needsOpening } from './value.js';

/** What a rewriting of a dump is to do. */
export interface DumpRewriting {
  readonly rules: Rules;
  readonly prefix?: PrefixChange | undefined;
  readonly scope?: Scope | undefined;
  /** `table.column` patterns of values that are a bare host. */
  readonly hosts?: Globs | undefined;
  /** `table.column` patterns of values that may be compressed as a whole. */
  readonly compressed?: Globs | undefined;
  /** Takes what is left one by one. */
  readonly left?: LeftList | undefined;
  /** Whether a table or view is passed on, by its name as bytes; left out, all are. */
  readonly takes?: ((table: string) => boolean) | undefined;
}

/** What is known of one column of the table whose rows are being read. */
interface ColumnPlan {
  readonly place: PlaceTally;
  readonly observer: Observer;
  readonly leave: LeftWhy | undefined;
  readonly rules: Rules;
  readonly prefixed: PrefixedData | undefined;
  /** Whether its values may be compressed as a whole. */
  readonly compressed: boolean;
}

/** The place under which addresses outside of rows are counted, by kind of statement. */
const statements = 'statements';

/**
 * Rewrites the old addresses (and, when asked, the table prefix) of a dump that streams by. Only literals that
 * change are written again, and of these only the bytes that change.
 */
export class DumpRewriter implements DumpVisitor {
  readonly tally = new Tally();
  readonly tables = new Map<string, TableRows>();
  /** Statements that do more than dumps do. */
  readonly leftOut: RefusedStatement[] = [];
  private readonly what: DumpRewriting;
  private readonly hostRules: Rules;
  private readonly scanner: DumpScanner;
  private readonly shapes = new Map<string, readonly string[]>();
  private readonly common: CommonAddresses;
  private stretch = new Stretch(Buffer.alloc(0));
  private anchorCursor: AnchorCursor | undefined;
  private escaped: EscapedText | undefined;
  /** Where the next anchor is, as far as that is known: nothing before it need be looked at. */
  quietUntil = -1;
  private plans: ColumnPlan[] = [];
  private columns: readonly string[] | undefined;
  private current: TableRows = { table: '', rows: 0 };

  /** @param emit takes the rewritten dump; leave it out for a dry run, which counts the same */
  constructor(what: DumpRewriting, emit?: Outlet) {
    this.what = what;
    this.hostRules = { ...what.rules, bareHosts: true };
    this.common = new CommonAddresses(what.rules);
    this.scanner = new DumpScanner(what.rules.bench, this, emit);
    if (what.left) what.left.row = () => this.rowText();
  }

  /** What is looked for in all of the dump; undefined where it is not, or not in whole windows. */
  get search(): ManySearch | undefined {
    return this.common.search;
  }

  /** See `DumpScanner`. @throws DamageError when the bytes cannot be an SQL dump */
  push(chunk: Buffer, before?: number): void {
    this.scanner.push(chunk, before);
  }

  /** @throws DamageError when the dump ends too early */
  finish(): void {
    this.scanner.finish();
  }

  wanted(table: string): boolean {
    return this.what.takes?.(table) !== false;
  }

  leavesOut(named: Allowed): boolean {
    const { takes } = this.what;
    return takes !== undefined && namesOthers(named, table => !takes(table));
  }

  refused(statement: RefusedStatement): void {
    if (this.leftOut.length < mostLeftOut) this.leftOut.push(statement);
  }

  anchors(bytes: Buffer): number | undefined {
    return this.common.window(bytes);
  }

  window(stretch: Stretch): void {
    this.stretch = stretch;
    this.anchorCursor = undefined;
    this.escaped = undefined;
    this.quietUntil = -1;
  }

  /** The anchors of the window. */
  private get cursor(): AnchorCursor {
    this.anchorCursor ??= new AnchorCursor(this.stretch, this.what.rules.anchors);
    return this.anchorCursor;
  }

  insert(head: InsertHead, s: ByteString): readonly Edit[] | undefined {
    const { table } = head;
    if (table !== this.current.table) {
      this.current = rowsOf(this.tables, table);
      this.plans = [];
    }
    const columns = head.columns ?? this.shapes.get(table);
    if (columns !== this.columns && columns?.join() !== this.columns?.join()) this.plans = [];
    this.columns = columns;
    const next = renamed(table, this.what.prefix);
    if (next === undefined) return undefined;
    const quotes = /[`"]/.test(s[head.nameEnd - 1]!) ? 1 : 0;
    const end = head.nameEnd - quotes;
    return [{ start: end - table.length, end, put: asBytes(next) }];
  }

  showings(): readonly Showing[] {
    return (this.columns ?? []).map((_, column) => this.showing(column));
  }

  showing(column: number): Showing {
    const { place, leave, rules, prefixed, compressed } = this.planOf(column);
    if (prefixed || rules.mend || compressed) return 'always';
    if (rules !== this.what.rules) return 'with anchor';
    return leave || wantsSample(place) ? 'with address' : 'where needed';
  }

  noted(column: number, address: number, literals: number, times: number): void {
    const { place, observer } = this.planOf(column);
    place.changed += literals;
    if (address >= 0) observer.matched(commonPair(address), commonForm(address), times);
  }

  rowsEnded(count: number): void {
    this.current.rows += count;
  }

  literalsPassed(column: number, literals: number): void {
    this.planOf(column).place.seen += literals;
  }

  literal(literal: CellLiteral, dialect: Dialect): readonly Edit[] | undefined {
    const plan = this.planOf(literal.column);
    plan.place.seen++;
    const edits = this.literalEdits(literal, dialect, plan);
    if (!this.what.rules.mend) this.quietUntil = this.cursor.seekAny(literal.end);
    return edits;
  }

  private literalEdits(
    literal: CellLiteral,
    dialect: Dialect,
    plan: ColumnPlan,
  ): readonly Edit[] | undefined {
    if (plan.prefixed) {
      const edits = this.prefixEdits(literal, plan.prefixed);
      if (edits) return edits;
    }
    const { s, start, end, quote } = literal;
    if (plan.compressed && !plan.leave) {
      const open = openLiteral(s, start, end, quote, dialect);
      const inner = this.compressedEdits(open.value, plan);
      if (inner) return editsInLiteral(open, inner, start, dialect);
    }
    const { mend } = this.what.rules;
    const encoded = this.cursor.seekEncoded(start) < end;
    if (this.cursor.seekAny(start) >= end && !(mend && looksSerialized(s, start))) return undefined;
    const region = { start, end, backslashes: dialect.backslash ? 2 : 1 } as const;
    if (plan.leave) {
      this.countLeft(plan.place, region, plan.leave);
      return undefined;
    }
    let edits: readonly Edit[];
    const inPlace = mend || encoded ? undefined : this.editsInPlace(literal, dialect, plan);
    if (inPlace) {
      edits = inPlace;
      sampleChange(plan.place, s, edits, unescaped(quote, dialect), start, end);
    } else if (encoded || needsOpening(s, start, end)) {
      const open = openLiteral(s, start, end, quote, dialect);
      const inner = editsInValue(open.value, plan.rules, plan.observer);
      sampleChange(plan.place, open.value, inner);
      edits = editsInLiteral(open, inner, start, dialect);
    } else {
      edits = editsInText(this.cursor, region, plan.rules, plan.observer);
      sampleChange(plan.place, s, edits, unescaped(quote, dialect), start, end);
    }
    if (edits.length > 0) plan.place.changed++;
    return edits;
  }

  hex(s: ByteString, start: number, end: number, column: number): readonly Edit[] | undefined {
    const value = asBytes(Buffer.from(s.slice(start, end), 'hex').toString('latin1'));
    const plan = this.planOf(column);
    plan.place.seen++;
    if (plan.leave) return undefined;
    const packed = plan.compressed ? this.compressedEdits(value, plan) : undefined;
    const edits = packed ?? editsInValue(value, plan.rules, plan.observer);
    if (edits.length === 0) return undefined;
    if (!packed) {
      plan.place.changed++;
      sampleChange(plan.place, value, edits);
    }
    const upper = !/[a-f]/.test(s.slice(start, end));
    return edits.map(edit => {
      const put = Buffer.from(edit.put, 'latin1').toString('hex');
      return {
        start: start + 2 * edit.start,
        end: start + 2 * edit.end,
        put: asBytes(upper ? put.toUpperCase() : put),
      };
    });
  }

  statement(s: ByteString, start: number, end: number, dialect: Dialect): readonly Edit[] | undefined {
    const text = s.slice(start, end);
    const shape = readCreateTable(text);
    if (shape) {
      this.shapes.set(shape.name, shape.columns);
      rowsOf(this.tables, shape.name);
      this.current = { table: '', rows: 0 };
    }
    const edits = this.assignmentEdits(s, start, end, dialect);
    if (!edits && this.cursor.seek(start) < end) this.countInStatement(text, start, end);
    const { prefix } = this.what;
    const names = prefix ? renameTables(s, start, end, name => renamed(name, prefix)) : [];
    return [...(edits ?? []), ...names].sort((a, b) => a.start - b.start);
  }

  /** Edits of the values that an INSERT … SET or an UPDATE assigns; undefined for any other statement. */
  private assignmentEdits(s: ByteString, start: number, end: number, dialect: Dialect): Edit[] | undefined {
    const assignments = readAssignments(s, start, end, dialect);
    if (!assignments) return undefined;
    const { table, inserts, strings } = assignments;
    this.current = rowsOf(this.tables, table);
    if (inserts) this.current.rows++;
    const edits: Edit[] = [];
    const columns: string[] = [];
    this.plans = [];
    for (const { column: name, start: from, end: to, quote } of strings) {
      let column = columns.indexOf(name);
      if (column < 0) column = columns.push(name) - 1;
      this.columns = columns;
      for (const edit of this.literal({ s, start: from, end: to, quote, column }, dialect) ?? [])
        edits.push(edit);
    }
    this.plans = [];
    this.current = { table: '', rows: 0 };
    return edits;
  }

  /** Edits of a value that is compressed as a whole; undefined for one that is not. */
  private compressedEdits(value: ByteString, { rules, observer, place }: ColumnPlan): Edit[] | undefined {
    const content = inflated(value);
    if (content === undefined) return undefined;
    const edits = editsInValue(content, rules, observer);
    if (edits.length === 0) return [];
    place.changed++;
    sampleChange(place, content, edits);
    return [deflatedEdit(value, applyEdits(content, edits))];
  }

  private planOf(column: number): ColumnPlan {
    return this.plans[column] ?? this.plan(column);
  }

  private plan(column: number): ColumnPlan {
    const { table } = this.current;
    const name = this.columns?.[column] ?? `column ${column + 1}`;
    const place = this.tally.at(table, name);
    const plan: ColumnPlan = {
      place,
      observer: observerOf(place, this.what.left),
      leave: this.what.scope?.leaves(`${table}.${name}`),
      rules: this.what.hosts?.matches(`${table}.${name}`) ? this.hostRules : this.what.rules,
      prefixed: prefixedColumn(table, name, this.what.prefix),
      compressed: this.what.compressed?.matches(`${table}.${name}`) === true,
    };
    this.plans[column] = plan;
    return plan;
  }

  /** Edits of a serialized value whose escapes are followed where it is; undefined where it must be opened. */
  private editsInPlace(
    { s, start, end }: CellLiteral,
    dialect: Dialect,
    { rules, observer }: ColumnPlan,
  ): Edit[] | undefined {
    if (!dialect.backslash || !looksSerialized(s, start) || hasDoubledQuote(s, start, end)) return undefined;
    this.escaped ??= new EscapedText(s);
    return editsInEscaped(this.cursor, start, end, this.escaped, rules, observer);
  }

  private prefixEdits({ s, start, end }: CellLiteral, prefixed: PrefixedData): readonly Edit[] | undefined {
    const { from, to } = this.what.prefix!;
    if (!s.startsWith(from, start) || start + from.length > end) return undefined;
    if (!prefixed.carries(s.slice(start + from.length, end))) return undefined;
    return [{ start, end: start + from.length, put: asBytes(to) }];
  }

  /** Counts the old addresses of a stretch that is left. */
  private countLeft(place: PlaceTally, region: Region, why: NonNullable<PlaceTally['leftWhy']>): void {
    place.leftWhy ??= why;
    const { s } = this.cursor;
    const sampleAt = (at: number) => excerpt(s, at, 40, region.start, region.end);
    const from = this.cursor.at;
    const before = place.left;
    for (const { start } of editsInText(this.cursor, region, this.what.rules, unnoted)) {
      place.left++;
      this.what.left?.note(place, why, sampleAt(start));
    }
    if (place.left > before) place.missSamples.left ??= sampleAt(from);
  }

  private countInStatement(text: string, start: number, end: number): void {
    const kind =
      /[a-z]+(?:\s+(?:table|view|database|user))?/i.exec(text.replace(/^\/\*M?!\d*/, ''))?.[0] ?? 'statement';
    this.countLeft(
      this.tally.at(statements, kind.toUpperCase()),
      { start, end, backslashes: 2 },
      'outside of rows',
    );
  }

  /** The row that is being read: its number, and its first value, which is mostly its key. */
  private rowText(): string {
    const { rowStart } = this.scanner;
    firstCell.lastIndex = rowStart;
    const cell = rowStart < 0 ? undefined : firstCell.exec(this.cursor.s)?.[1];
    const number = this.current.table === '' ? '' : `row ${this.current.rows + 1}`;
    return cell === undefined || cell.length > 24 ? number : `${number} (${showable(textOf(cell))})`;
  }
}

/** The first value of a row that begins at its bracket. */
const firstCell = /\(\s*('(?:[^'\\]|\\.)*'|[^,()']*)/y;

/** Describes the text of a literal as the value that it means. */
function unescaped(quote: number, dialect: Dialect): (bytes: ByteString) => ByteString {
  return bytes => openLiteral(bytes, 0, bytes.length, quote, dialect).value;
}

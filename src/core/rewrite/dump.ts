import { applyEdits, asBytes, type ByteString, type Edit } from '../bytes.js';
import { looksSerialized } from '../serialized/spans.js';
import { readAssignments } from '../sql/assignments.js';
import { readCreateTable } from '../sql/create-table.js';
import { type Dialect, EscapedText, editsInLiteral, hasDoubledQuote, openLiteral } from '../sql/literal.js';
import { rowsOf, type TableRows } from '../sql/row-count.js';
import { type CellLiteral, DumpScanner, type DumpVisitor, type InsertHead } from '../sql/scanner.js';
import { renameTables } from '../sql/table-names.js';
import { AnchorCursor } from './anchors.js';
import { editsInEscaped } from './escaped.js';
import type { Globs } from './globs.js';
import { type PrefixChange, type PrefixedData, prefixedColumn, renamed } from './prefix.js';
import type { Rules } from './rules.js';
import {
  excerpt,
  noteSample,
  type Observer,
  observerOf,
  type PlaceTally,
  Tally,
  wantsSample,
} from './tally.js';
import { editsInText } from './text.js';
import { editsInValue, needsOpening } from './value.js';

/** What a rewriting of a dump is to do. */
export interface DumpRewriting {
  readonly rules: Rules;
  readonly prefix?: PrefixChange | undefined;
  /** `table.column` globs of values to leave as they are. */
  readonly leave?: Globs | undefined;
}

/** What is known of one column of the table whose rows are being read. */
interface ColumnPlan {
  readonly place: PlaceTally;
  readonly observer: Observer;
  readonly leave: boolean;
  readonly prefixed: PrefixedData | undefined;
}

/** The place under which addresses outside of rows are counted, by kind of statement. */
const statements = 'statements';

/**
 * Rewrites the old addresses (and, when asked, the table prefix) of a dump that streams by. Only literals that
 * change are written anew, and of these only the bytes that change.
 */
export class DumpRewriter implements DumpVisitor {
  readonly tally = new Tally();
  readonly tables = new Map<string, TableRows>();
  private readonly what: DumpRewriting;
  private readonly scanner: DumpScanner;
  private readonly shapes = new Map<string, readonly string[]>();
  private cursor: AnchorCursor;
  private escaped = new EscapedText('');
  private plans: ColumnPlan[] = [];
  private columns: readonly string[] | undefined;
  private current: TableRows = { table: '', rows: 0 };

  /** @param emit takes the rewritten dump; leave it out for a dry run, which counts the same */
  constructor(what: DumpRewriting, emit?: (chunk: Buffer) => void) {
    this.what = what;
    this.cursor = new AnchorCursor(asBytes(''), what.rules);
    this.scanner = new DumpScanner(this, emit);
  }

  /** @throws DamageError when the bytes cannot be an SQL dump */
  push(chunk: Buffer): void {
    this.scanner.push(chunk);
  }

  /** @throws DamageError when the dump ends too early */
  finish(): void {
    this.scanner.finish();
  }

  window(s: ByteString): void {
    this.cursor = new AnchorCursor(s, this.what.rules);
    this.escaped = new EscapedText(s);
  }

  insert(head: InsertHead, s: ByteString): readonly Edit[] | undefined {
    const { table } = head;
    if (table !== this.current.table) {
      this.current = rowsOf(this.tables, table);
      this.plans = [];
    }
    const columns = head.columns ?? this.shapes.get(table);
    if (columns?.join() !== this.columns?.join()) this.plans = [];
    this.columns = columns;
    const next = renamed(table, this.what.prefix);
    if (next === undefined) return undefined;
    const quotes = /[`"]/.test(s[head.nameEnd - 1]!) ? 1 : 0;
    const end = head.nameEnd - quotes;
    return [{ start: end - table.length, end, put: asBytes(next) }];
  }

  row(): void {
    this.current.rows++;
  }

  literal(literal: CellLiteral, dialect: Dialect): readonly Edit[] | undefined {
    const plan = this.plans[literal.column] ?? this.plan(literal.column);
    plan.place.seen++;
    if (plan.prefixed) {
      const edits = this.prefixEdits(literal, plan.prefixed);
      if (edits) return edits;
    }
    if (this.cursor.seek(literal.start) >= literal.end) return undefined;
    const { s, start, end, quote } = literal;
    const region = { start, end, backslashes: dialect.backslash ? 2 : 1 } as const;
    if (plan.leave) {
      this.countLeft(plan, region);
      return undefined;
    }
    let edits: readonly Edit[];
    const inPlace = this.editsInPlace(literal, dialect, plan.observer);
    if (inPlace) {
      edits = inPlace;
      if (edits.length > 0 && wantsSample(plan.place)) {
        sample(plan.place, s, edits, unescaped(quote, dialect), start, end);
      }
    } else if (needsOpening(s, start, end)) {
      const open = openLiteral(s, start, end, quote, dialect);
      const inner = editsInValue(open.value, this.what.rules, plan.observer);
      if (inner.length > 0 && wantsSample(plan.place)) sample(plan.place, open.value, inner, shownAsIs);
      edits = editsInLiteral(open, inner, start, dialect);
    } else {
      edits = editsInText(this.cursor, region, this.what.rules, plan.observer);
      if (edits.length > 0 && wantsSample(plan.place))
        sample(plan.place, s, edits, unescaped(quote, dialect), start, end);
    }
    if (edits.length > 0) plan.place.changed++;
    return edits;
  }

  hex(s: ByteString, start: number, end: number, column: number): readonly Edit[] | undefined {
    const value = asBytes(Buffer.from(s.slice(start, end), 'hex').toString('latin1'));
    const plan = this.plans[column] ?? this.plan(column);
    plan.place.seen++;
    if (plan.leave) return undefined;
    const edits = editsInValue(value, this.what.rules, plan.observer);
    if (edits.length === 0) return undefined;
    plan.place.changed++;
    if (wantsSample(plan.place)) sample(plan.place, value, edits, shownAsIs);
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
    if (!edits && this.cursor.seek(start) < end) this.countInStatement(text, s, start, end);
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

  private plan(column: number): ColumnPlan {
    const { table } = this.current;
    const name = this.columns?.[column] ?? `column ${column + 1}`;
    const place = this.tally.at(table, name);
    const plan: ColumnPlan = {
      place,
      observer: observerOf(place),
      leave: this.what.leave?.matches(`${table}.${name}`) ?? false,
      prefixed: prefixedColumn(table, name, this.what.prefix),
    };
    this.plans[column] = plan;
    return plan;
  }

  /** Edits of a serialized value whose escapes are followed where it stands; undefined where it must be opened. */
  private editsInPlace(
    { s, start, end }: CellLiteral,
    dialect: Dialect,
    observer: Observer,
  ): Edit[] | undefined {
    if (!dialect.backslash || !looksSerialized(s, start) || hasDoubledQuote(s, start, end)) return undefined;
    return editsInEscaped(this.cursor, start, end, this.escaped, this.what.rules, observer);
  }

  private prefixEdits({ s, start, end }: CellLiteral, prefixed: PrefixedData): readonly Edit[] | undefined {
    const { from, to } = this.what.prefix!;
    if (!s.startsWith(from, start) || start + from.length > end) return undefined;
    if (!prefixed.carries(s.slice(start + from.length, end))) return undefined;
    return [{ start, end: start + from.length, put: asBytes(to) }];
  }

  private countLeft(plan: ColumnPlan, region: { start: number; end: number; backslashes: 1 | 2 }): void {
    const before = plan.place.left;
    const observer: Observer = { matched: () => plan.place.left++, missed: () => {}, damaged: () => {} };
    const { at } = this.cursor;
    editsInText(this.cursor, region, this.what.rules, observer);
    if (plan.place.left > before)
      plan.place.missSamples.left ??= excerpt(this.cursor.s, at, 40, region.start, region.end);
  }

  private countInStatement(text: string, s: ByteString, start: number, end: number): void {
    const kind =
      /[a-z]+(?:\s+(?:table|view|database|user))?/i.exec(text.replace(/^\/\*M?!\d*/, ''))?.[0] ?? 'statement';
    const place = this.tally.at(statements, kind.toUpperCase());
    const { at } = this.cursor;
    const before = place.left;
    const observer: Observer = { matched: () => place.left++, missed: () => {}, damaged: () => {} };
    editsInText(this.cursor, { start, end, backslashes: 2 }, this.what.rules, observer);
    if (place.left > before) place.missSamples.left ??= excerpt(s, at);
  }
}

const shownAsIs = (bytes: ByteString) => bytes;

/** Shows the text of a literal as the value that it stands for. */
function unescaped(quote: number, dialect: Dialect): (bytes: ByteString) => ByteString {
  return bytes => openLiteral(bytes, 0, bytes.length, quote, dialect).value;
}

/** Notes how the surroundings of a value's first change look before and after it. */
function sample(
  place: PlaceTally,
  value: ByteString,
  edits: readonly Edit[],
  shown: (bytes: ByteString) => ByteString,
  low = 0,
  high = value.length,
): void {
  const first = edits.find(edit => edit.end - edit.start > 6) ?? edits[0]!;
  const from = Math.max(low, first.start - 30);
  const to = Math.min(high, first.end + 50);
  const near = edits.filter(edit => edit.start >= from && edit.end <= to);
  const shifted = near.map(edit => ({ start: edit.start - from, end: edit.end - from, put: edit.put }));
  const before = asBytes(value.slice(from, to));
  const line = (bytes: ByteString) => excerpt(shown(bytes), 0, bytes.length);
  noteSample(place, line(before), line(applyEdits(before, shifted)));
}

import type { Dialect } from '../literal.js';
import { Cursor, NotAllowed } from './cursor.js';
import { inBrackets, type Liberties, toTheEnd } from './expressions.js';
import { SessionSettings } from './settings.js';
import { alterations, tableDefinition } from './tables.js';
import { worldsOf } from './worlds.js';

/** A statement that does nothing but what dumps do. Its names are bytes, and none is of another database. */
export interface Allowed {
  /** The tables and views that it makes, changes, fills or drops; of a trigger that on which it acts. */
  readonly about: readonly string[];
  /** Whether these are views. */
  readonly isView: boolean;
  /** Those that a view or a program in it reads or changes later. */
  readonly uses: readonly string[];
  /** Those to which its foreign keys lead. */
  readonly refersTo: readonly string[];
}

/** The names that are met on the way. */
class Named {
  isView = false;
  readonly about = new Set<string>();
  readonly uses = new Set<string>();
  readonly refersTo = new Set<string>();
}

/** What is judged of a statement: that it is allowed, or why not. */
export type Verdict = Allowed | { readonly why: string };

export function isAllowed(verdict: Verdict): verdict is Allowed {
  return 'about' in verdict;
}

/**
 * Judges the statements of a dump one after the other. Allowed is what is wholly of a form that dumps of the known programs
 * have: tables, views and triggers are made, filled and dropped, and the session is set. Everything else is not, whatever it is.
 */
export class StatementJudge {
  private readonly session = new SessionSettings();

  /** How the server takes a backslash after the statements that were judged. */
  get dialect(): Dialect {
    return this.session.dialect;
  }

  /** @param statement as bytes, without its delimiter */
  judge(statement: string): Verdict {
    const worlds = worldsOf(statement, this.dialect);
    if (typeof worlds === 'string') return { why: worlds };
    const named = new Named();
    const { texts, isForAll } = worlds;
    try {
      for (const text of texts)
        this.form(new Cursor(text, this.dialect), named, isForAll && texts.length === 1);
    } catch (error) {
      if (error instanceof NotAllowed) return { why: error.message };
      throw error;
    }
    return {
      about: [...named.about],
      isView: named.isView,
      uses: [...named.uses],
      refersTo: [...named.refersTo],
    };
  }

  private form(cursor: Cursor, named: Named, isForAll: boolean): void {
    if (cursor.words('set')) this.session.take(cursor, isForAll);
    else if (cursor.words('create')) create(cursor, named);
    else if (cursor.words('drop')) drop(cursor, named);
    else if (cursor.words('alter')) alter(cursor, named);
    else if (cursor.words('insert') || cursor.words('replace')) insert(cursor, named);
    else if (cursor.words('update')) update(cursor, named);
    else if (cursor.words('delete')) remove(cursor, named);
    else if (cursor.words('truncate')) {
      cursor.words('table');
      named.about.add(cursor.name());
      cursor.end();
    } else if (cursor.words('lock')) lock(cursor, named);
    else transaction(cursor);
  }
}

function create(cursor: Cursor, named: Named): void {
  const isReplaced = cursor.words('or', 'replace');
  if (cursor.words('table')) {
    cursor.words('if', 'not', 'exists');
    named.about.add(cursor.name());
    tableDefinition(cursor, named.refersTo);
    return;
  }
  const before = cursor.peek();
  if (!isReplaced && /^(?:unique|fulltext|spatial|index)$/.test(before)) {
    createIndex(cursor, named);
    return;
  }
  if (cursor.words('algorithm')) {
    cursor.needMark('=');
    if (!cursor.words('undefined') && !cursor.words('merge')) cursor.need('temptable');
  }
  definer(cursor);
  if (cursor.words('sql', 'security') && !cursor.words('definer')) cursor.need('invoker');
  if (cursor.words('view')) createView(cursor, named);
  else if (cursor.words('trigger')) createTrigger(cursor, named);
  else if (cursor.words('event')) createEvent(cursor, named);
  else {
    if (!cursor.words('procedure')) cursor.need('function');
    createRoutine(cursor, named);
  }
}

function createIndex(cursor: Cursor, named: Named): void {
  if (!cursor.words('index')) {
    cursor.skip();
    cursor.need('index');
  }
  cursor.name();
  cursor.need('on');
  named.about.add(cursor.name());
  cursor.list(() => {
    cursor.name();
    if (cursor.peekMark() === '(') cursor.list(() => void cursor.number());
    if (!cursor.words('asc')) cursor.words('desc');
  });
  cursor.end();
}

/** `DEFINER=user@host`; it is left out before the statement is run. */
function definer(cursor: Cursor): void {
  if (!cursor.words('definer')) return;
  cursor.needMark('=');
  if (cursor.words('current_user')) {
    if (cursor.mark('(')) cursor.needMark(')');
    return;
  }
  cursor.anyName();
  cursor.needMark('@');
  cursor.anyName();
}

function createView(cursor: Cursor, named: Named): void {
  named.isView = true;
  named.about.add(cursor.name());
  if (cursor.peekMark() === '(') cursor.list(() => cursor.name());
  cursor.need('as');
  if (cursor.peek() !== 'select' && cursor.peekMark() !== '(') throw cursor.unknown();
  toTheEnd(cursor, { tables: named.uses });
}

const rowsOfTrigger = new Set(['new', 'old']);

function createTrigger(cursor: Cursor, named: Named): void {
  cursor.words('if', 'not', 'exists');
  cursor.name();
  if (!cursor.words('before')) cursor.need('after');
  if (!cursor.words('insert') && !cursor.words('update')) cursor.need('delete');
  cursor.need('on');
  named.about.add(cursor.name());
  cursor.need('for', 'each', 'row');
  if (cursor.words('follows') || cursor.words('precedes')) cursor.name();
  body(cursor, named);
}

function createEvent(cursor: Cursor, named: Named): void {
  cursor.words('if', 'not', 'exists');
  cursor.name();
  cursor.need('on', 'schedule');
  while (!cursor.isAtEnd && cursor.peek() !== 'do') {
    if (cursor.peekMark() === '@' || cursor.peekMark() === ';') throw cursor.unknown();
    cursor.skip();
  }
  cursor.need('do');
  body(cursor, named);
}

function createRoutine(cursor: Cursor, named: Named): void {
  cursor.words('if', 'not', 'exists');
  cursor.name();
  inBrackets(cursor, { rows: new Set(), statements: false });
  body(cursor, named);
}

/** What a program does: anything with tables of its own database and variables of its own. */
function body(cursor: Cursor, named: Named): void {
  const liberties: Liberties = { tables: named.uses, rows: rowsOfTrigger, variables: true, statements: true };
  toTheEnd(cursor, liberties);
}

function drop(cursor: Cursor, named: Named): void {
  const isView = cursor.words('view');
  const isTable = isView || cursor.words('table') || cursor.words('tables');
  if (isView) named.isView = true;
  if (!isTable && !cursor.words('trigger') && !cursor.words('procedure') && !cursor.words('function'))
    cursor.need('event');
  cursor.words('if', 'exists');
  if (!isTable) cursor.name();
  else {
    do named.about.add(cursor.name());
    while (cursor.mark(','));
    if (!cursor.words('cascade')) cursor.words('restrict');
  }
  cursor.end();
}

function alter(cursor: Cursor, named: Named): void {
  cursor.need('table');
  cursor.words('if', 'exists');
  named.about.add(cursor.name());
  alterations(cursor, named.refersTo);
}

/** `INSERT … SET` and, where rows are not read on their own, `INSERT … VALUES` of literals. */
function insert(cursor: Cursor, named: Named): void {
  if (!cursor.words('low_priority') && !cursor.words('delayed')) cursor.words('high_priority');
  cursor.words('ignore');
  cursor.words('into');
  named.about.add(cursor.name());
  if (cursor.words('set')) {
    assignments(cursor);
    cursor.end();
    return;
  }
  if (cursor.peekMark() === '(') cursor.list(() => cursor.name());
  if (!cursor.words('values')) cursor.need('value');
  do cursor.list(() => given(cursor));
  while (cursor.mark(','));
  cursor.end();
}

function update(cursor: Cursor, named: Named): void {
  cursor.words('ignore');
  named.about.add(cursor.name());
  cursor.need('set');
  assignments(cursor);
  where(cursor);
}

function remove(cursor: Cursor, named: Named): void {
  cursor.words('low_priority');
  cursor.words('quick');
  cursor.words('ignore');
  cursor.need('from');
  named.about.add(cursor.name());
  where(cursor);
}

function assignments(cursor: Cursor): void {
  do {
    cursor.name();
    cursor.needMark('=');
    if (!cursor.words('default') && !cursor.literal()) cursor.name();
  } while (cursor.mark(','));
}

/** A value that the dump gives. */
function given(cursor: Cursor): void {
  if (cursor.words('default')) return;
  if (!cursor.literal()) throw cursor.unknown();
}

/** A condition of names and literals. */
function where(cursor: Cursor): void {
  if (cursor.words('where')) condition(cursor);
  if (cursor.words('limit') && !cursor.number()) throw cursor.unknown();
  cursor.end();
}

function condition(cursor: Cursor): void {
  do {
    if (cursor.peekMark() === '(') cursor.list(() => cursor.name());
    // The digest of a cell, by which rows that were kept are found again.
    else if (cursor.peekMark(1) === '(' && cursor.words('sha2')) inBrackets(cursor);
    else cursor.name();
    if (cursor.words('in')) {
      cursor.list(() => {
        if (cursor.peekMark() === '(') cursor.list(() => given(cursor));
        else given(cursor);
      });
    } else if (cursor.words('is')) {
      cursor.words('not');
      cursor.need('null');
    } else {
      cursor.needMark('=');
      given(cursor);
    }
  } while (cursor.words('and'));
}

function lock(cursor: Cursor, named: Named): void {
  if (!cursor.words('tables')) cursor.need('table');
  do {
    named.about.add(cursor.name());
    if (!cursor.words('read')) {
      cursor.words('low_priority');
      cursor.need('write');
      cursor.words('concurrent');
    } else cursor.words('local');
  } while (cursor.mark(','));
  cursor.end();
}

function transaction(cursor: Cursor): void {
  if (cursor.words('unlock')) {
    if (!cursor.words('tables')) cursor.need('table');
  } else if (cursor.words('start', 'transaction')) cursor.words('with', 'consistent', 'snapshot');
  else if (!cursor.words('begin') && !cursor.words('commit') && !cursor.words('rollback'))
    throw cursor.unknown();
  cursor.words('work');
  cursor.end();
}

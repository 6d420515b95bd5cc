import { type ByteString, textOf } from '../../../core/bytes.js';
import { showable } from '../../../core/display.js';
import type { Finding } from '../../../core/findings.js';
import { globPattern } from '../../../core/rewrite/terms/globs.js';
import type { Sheet } from '../../../core/sheet/schema.js';
import type { DataEdit } from '../../../core/site/data/data-edits.js';
import { conditionSql, type RowChange, RowEdits, statementOf } from '../../../core/site/data/row-edits.js';
import type { Family, SiteWish } from '../../../core/site/families/family.js';
import { quoteName } from '../../../core/sql/column.js';
import { bytes, tablesOf } from '../../../ends/database/server/catalog.js';
import type { DatabaseSession } from '../../../ends/database/server/session.js';
import type { Move } from '../../move/open.js';
import { noteDone, type StepRun } from '../../move/step.js';

/** What one edit of the new site's data came to. */
export interface EditDone {
  readonly what: string;
  readonly table: string;
  /** Rows that were changed or taken away. */
  readonly rows: number;
  /** The first change, as it may be shown; empty for rows taken away and for secrets. */
  readonly before: string;
  readonly after: string;
  /** The extensions that it holds back. */
  readonly held: readonly string[];
}

/** What shall be set right in the data of the new site, as the sheet and the site's family have it. */
export function editsWanted(
  { sheet, oldAddress, newAddress }: Move,
  family: Family,
  prefix: string,
  tables: readonly string[],
): readonly DataEdit[] {
  const { configure } = sheet;
  const patterns = configure['switch-off'].map(globPattern);
  const { administrator } = configure;
  return (
    family.dataEdits?.({
      newAddress,
      oldAddress,
      prefix,
      tables,
      title: configure.title,
      tagline: configure.tagline,
      searchEngines: configure['search-engines'] as 'keep' | 'hide' | 'show',
      holdsBack: name => patterns.some(pattern => pattern.test(name)),
      administrator:
        administrator?.login === undefined ? undefined : { ...administrator, login: administrator.login },
    }) ?? []
  );
}

/** What the sheet asks for and cannot be set for this kind of site. */
export function unmetWishes({ configure }: Sheet, family: Family): Finding[] {
  const asked: Record<SiteWish, boolean> = {
    title: configure.title !== undefined,
    tagline: configure.tagline !== undefined,
    administrator: configure.administrator !== undefined,
    'switch-off': configure['switch-off'].length > 0,
  };
  return (Object.keys(asked) as SiteWish[])
    .filter(wish => asked[wish] && !family.sets.includes(wish))
    .map(wish => ({
      level: 'warn',
      code: 'wish-not-carried-out',
      place: `configure.${wish}`,
      what: `This cannot be set for a ${family.name} site and was not`,
      remedy: 'Set it by hand in the new site, and take it out of the sheet',
    }));
}

/** Notes what is held back, before it is, for `tidy` to list it. */
export async function noteHeld(run: StepRun, names: readonly string[]): Promise<void> {
  for (const name of names) await noteDone(run, 'deliver', { holdsBack: name });
}

/** What an edit came to, as it may be shown. @param first its first change of a value */
export function editDone(
  edit: DataEdit,
  rows: number,
  first: { readonly before: ByteString; readonly after: ByteString } | undefined,
  held: readonly string[],
): EditDone {
  const shown = (value: ByteString | undefined) =>
    value === undefined || edit.secret || edit.heldBack ? '' : showable(textOf(value)).slice(0, 120);
  const { what, table } = edit;
  return { what, table, rows, before: shown(first?.before), after: shown(first?.after), held };
}

/**
 * Sets right in the loaded tables what a move changes for the site besides its addresses. Each edit is a transaction
 * and can be done again; what is held back is noted before.
 */
export async function editSite(
  run: StepRun,
  family: Family,
  session: DatabaseSession,
  prefix: string,
): Promise<EditDone[]> {
  const tables = (await tablesOf(session)).map(({ name }) => name);
  const edits = editsWanted(run.move, family, prefix, tables);
  await session.run('SET NAMES utf8mb4');
  await session.run("SET SESSION sql_mode = ''");
  const done: EditDone[] = [];
  for (const edit of edits) {
    run.signal.throwIfAborted();
    done.push(await carryOut(run, session, edit));
  }
  return done;
}

async function carryOut(run: StepRun, session: DatabaseSession, edit: DataEdit): Promise<EditDone> {
  const { table, change, key } = edit;
  const from = bytes(quoteName(table));
  const where = edit.where.length === 0 ? '' : ` WHERE ${edit.where.map(conditionSql).join(' AND ')}`;
  if ('remove' in change) {
    const { affected } = await session.run(`DELETE FROM ${from}${where}`);
    return editDone(edit, affected, undefined, []);
  }
  const columns = [
    ...new Set([...key, change.column, change.from ?? change.column, ...edit.where.map(one => one.column)]),
  ];
  const named = columns.map(name => ({ name }));
  const alone = new RowEdits([edit]);
  const changes: RowChange[] = [];
  await session.run('START TRANSACTION');
  await session.each(
    `SELECT ${columns.map(name => bytes(quoteName(name))).join()} FROM ${from}${where} FOR UPDATE`,
    cells => alone.apply(table, named, cells, one => changes.push(one)),
  );
  const held = changes.flatMap(({ put }) => (put && edit.heldBack?.(put.before, put.after)) ?? []);
  await noteHeld(run, held);
  for (const one of changes) await session.run(statementOf(one));
  await session.run('COMMIT');
  return editDone(edit, changes.length, changes[0]?.put, held);
}

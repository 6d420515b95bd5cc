import { asBytes, type ByteString, bytesOf, bytesOfText, textOf } from '../core/bytes.js';
import { quoteName, quoteText } from '../core/database/column.js';
import { globPattern } from '../core/rewrite/globs.js';
import { showable } from '../core/rewrite/tally.js';
import type { Condition, DataEdit } from '../core/site/data-edits.js';
import type { Family } from '../core/site/family.js';
import { bytes, tablesOf } from '../ends/database/catalog.js';
import type { DatabaseSession } from '../ends/database/session.js';
import { noteDone, type StepRun } from './run.js';

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
  const { sheet, oldAddress, newAddress } = run.move;
  const { configure } = sheet;
  const patterns = configure['switch-off'].map(globPattern);
  const administrator = configure.administrator;
  const edits =
    family.dataEdits?.({
      newAddress,
      oldAddress,
      prefix,
      tables: (await tablesOf(session)).map(({ name }) => name),
      title: configure.title,
      tagline: configure.tagline,
      searchEngines: configure['search-engines'] as 'keep' | 'hide' | 'show',
      holdsBack: name => patterns.some(pattern => pattern.test(name)),
      administrator:
        administrator?.login === undefined ? undefined : { ...administrator, login: administrator.login },
    }) ?? [];
  await session.run('SET NAMES utf8mb4');
  await session.run("SET SESSION sql_mode = ''");
  const done: EditDone[] = [];
  for (const edit of edits) {
    run.signal.throwIfAborted();
    done.push(await carryOut(run, session, edit));
  }
  return done.filter(({ rows }) => rows > 0);
}

async function carryOut(run: StepRun, session: DatabaseSession, edit: DataEdit): Promise<EditDone> {
  const { what, table, change } = edit;
  const from = bytes(quoteName(table));
  const where = edit.where.length === 0 ? '' : ` WHERE ${edit.where.map(conditionOf).join(' AND ')}`;
  if ('remove' in change) {
    const { affected } = await session.run(`DELETE FROM ${from}${where}`);
    return { what, table, rows: affected, before: '', after: '', held: [] };
  }
  const columns = [...edit.key, change.from ?? change.column].map(name => bytes(quoteName(name)));
  const rows: { key: string[]; before: ByteString }[] = [];
  await session.run('START TRANSACTION');
  await session.each(`SELECT ${columns.join()} FROM ${from}${where} FOR UPDATE`, cells => {
    const key = cells.slice(0, -1).map(cell => cell?.toString('latin1') ?? '');
    const value = cells.at(-1);
    if (value) rows.push({ key, before: bytesOf(value) });
  });
  const held: string[] = [];
  let count = 0;
  let first: { before: ByteString; after: ByteString } | undefined;
  for (const { key, before } of rows) {
    const after = change.to(before);
    if (after === undefined || (after === before && change.from === undefined)) continue;
    for (const name of edit.heldBack?.(before, after) ?? []) {
      await noteDone(run, 'deliver', { holdsBack: name });
      held.push(name);
    }
    const found = edit.key
      .map((name, i) => `${bytes(quoteName(name))} = ${quoteText(key[i]!)}`)
      .join(' AND ');
    const put = `${bytes(quoteName(change.column))} = ${literal(after)}`;
    await session.run(`UPDATE ${from} SET ${put} WHERE ${found}`);
    first ??= { before, after };
    count++;
  }
  await session.run('COMMIT');
  const shown = (value: ByteString | undefined) =>
    value === undefined || edit.secret || edit.heldBack ? '' : showable(textOf(value)).slice(0, 120);
  return { what, table, rows: count, before: shown(first?.before), after: shown(first?.after), held };
}

function conditionOf(condition: Condition): string {
  const column = bytes(quoteName(condition.column));
  if ('is' in condition) return `${column} = ${literal(bytesOfText(condition.is))}`;
  return `(${condition.like.map(pattern => `${column} LIKE ${literal(asBytes(pattern))}`).join(' OR ')})`;
}

/** Bytes as a string literal of the session. */
function literal(value: ByteString): string {
  return `'${value.replace(/[\\']/g, c => c + (c === "'" ? "'" : '\\'))}'`;
}

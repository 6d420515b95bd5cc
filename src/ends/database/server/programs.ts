import { asBytes } from '../../../core/bytes.js';
import { type Fitted, fitStatement } from '../../../core/database/fitting.js';
import type { LaterStatement } from '../../../core/database/staging.js';
import { encodedSql, identifier, sql } from '../../../core/sql/encoded-sql.js';
import type { SeenServer, StoredProgram } from '../database-end.js';
import { triggersOf } from './catalog.js';
import type { ServerSaid } from './session/errors.js';
import type { DatabaseSession } from './session/session.js';

/** Triggers on some tables, and views, as they are made again: with the SQL mode in which they were. */
export async function programsOf(
  session: DatabaseSession,
  tables: ReadonlySet<string>,
  views: readonly string[],
): Promise<StoredProgram[]> {
  const created = async (statement: ReturnType<typeof sql>) => {
    let cells: string[] = [];
    await session.each(statement, row => {
      cells = row.map(cell => cell?.toString('latin1') ?? '');
    });
    return cells;
  };
  const triggers = (await triggersOf(session)).filter(({ table }) => tables.has(table));
  return Promise.all([
    ...triggers.map(async ({ name }): Promise<StoredProgram> => {
      const [, mode = '', create = ''] = await created(sql`SHOW CREATE TRIGGER ${identifier(name)}`);
      return { kind: 'trigger', name, mode, create };
    }),
    ...views.map(async (name): Promise<StoredProgram> => {
      const [, create = ''] = await created(sql`SHOW CREATE VIEW ${identifier(name)}`);
      return {
        kind: 'view',
        name,
        mode: '',
        create: create.replaceAll(`${identifier(session.route.place.name)}.`, ''),
      };
    }),
  ]);
}

/** Removes triggers and views. Safe to repeat. */
export async function dropPrograms(
  session: DatabaseSession,
  programs: readonly Pick<StoredProgram, 'kind' | 'name'>[],
): Promise<void> {
  await session.runAll(
    ...programs.map(
      ({ kind, name }) => sql`DROP ${encodedSql(kind.toUpperCase())} IF EXISTS ${identifier(name)}`,
    ),
  );
}

/** Makes triggers and views again. Safe to repeat. */
export async function makePrograms(
  session: DatabaseSession,
  programs: readonly StoredProgram[],
): Promise<void> {
  for (const { kind, name, mode, create } of programs) {
    await session.run(sql`DROP ${encodedSql(kind.toUpperCase())} IF EXISTS ${identifier(name)}`);
    await session.run(sql`SET SESSION sql_mode = ${encodedSql(`'${mode.replace(/[^A-Z_,0-9]/gi, '')}'`)}`);
    try {
      await session.run(encodedSql(create));
    } catch (error) {
      // Only some accounts may make what is another's.
      if (![1227, 1449].includes((error as ServerSaid).errno ?? 0)) throw error;
      const nothing = { charsets: new Set<string>(), collations: new Set<string>() };
      await session.run(encodedSql(fitStatement(asBytes(create), nothing, new Map(), 'definer')));
    }
  }
}

/** Only administrators may make programs, or this account may not. */
const deniedTo = new Set([1142, 1227, 1370, 1419]);

/**
 * Runs what a dump says after its tables: views and programs, each with the settings before it. What is there under the
 * same name is replaced.
 */
export async function runLater(
  session: DatabaseSession,
  statements: readonly LaterStatement[],
  { charsets, collations }: SeenServer,
): Promise<{ readonly fitted: Fitted; readonly denied: readonly LaterStatement[] }> {
  const fitted: Fitted = new Map();
  const denied: LaterStatement[] = [];
  const lower = (names: readonly string[]) => new Set(names.map(name => name.toLowerCase()));
  const has = { charsets: lower(charsets), collations: lower(collations) };
  if (statements.every(({ isSetting }) => isSetting)) return { fitted, denied };
  await session.run(
    sql`SET NAMES utf8mb4, SESSION sql_mode = 'NO_AUTO_VALUE_ON_ZERO', foreign_key_checks = 0`,
  );
  for (const one of statements) {
    const { sql: statement, isSetting } = one;
    try {
      await session.run(encodedSql(fitStatement(statement, has, fitted)));
    } catch (error) {
      // There already, of a run that was interrupted.
      const isThere = [1050, 1304, 1359, 1537].includes((error as ServerSaid).errno ?? 0);
      if (deniedTo.has((error as ServerSaid).errno ?? 0)) denied.push(one);
      else if (!isSetting && !isThere) throw error;
    }
  }
  return { fitted, denied };
}

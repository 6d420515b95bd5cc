import { basename } from 'node:path';
import { textOf } from '../../core/bytes.js';
import { DumpContent, type Program } from '../../core/database/dump-content.js';
import { shownDatabase } from '../../core/database/place.js';
import { UsageError } from '../../core/errors.js';
import type { Finding } from '../../core/findings.js';
import { DumpRewriter } from '../../core/rewrite/carriers/dump.js';
import { compileDumpTerms } from '../../core/rewrite/carriers/dump-terms.js';
import type { Family } from '../../core/site/families/family.js';
import { readDump, together } from '../../ends/database/dump/reader.js';
import { columnsOf, tablesOf } from '../../ends/database/server/catalog.js';
import { contentOf } from '../../ends/database/server/content.js';
import { type DatabaseSession, withDatabase } from '../../ends/database/server/session.js';
import { movedDump } from '../../ends/move-folder/crate.js';
import type { LoadedDatabase } from '../deliver/database/load.js';
import { ownTables } from '../deliver/database/replace-tables.js';
import { asWritten, own, type TableProof } from '../deliver/database/verify.js';
import { newDatabaseOf } from '../move/databases.js';
import { dumpTermsOf, newTableName, prefixChangeOf } from '../move/open.js';
import { readResult, type StepRun } from '../move/step.js';
import type { LeftOver } from './files.js';
import { leftOverIn, type TableComparison } from './tables.js';

/**
 * Compares the tables of the new server, read back, with what was delivered there; and that with the old dump. Old
 * addresses that were loaded are added to `leftOver`.
 */
export async function compareDatabase(
  run: StepRun,
  family: Family,
  leftOver: LeftOver[],
): Promise<{ tables: TableComparison[]; findings: Finding[] }> {
  const { move } = run;
  const way = newDatabaseOf(move);
  const loaded = (await readResult<{ database?: LoadedDatabase }>(move.folder, 'deliver'))?.result.database;
  if (!way || !loaded || loaded.tables.length === 0) {
    throw new UsageError({
      doing: 'Checking the new database',
      cause: 'this move has not loaded it yet',
      remedy: 'Run "able-porter deliver" first',
    });
  }
  const manifest = await move.crate.manifest();
  const change = prefixChangeOf(move, family, manifest.from.prefix);
  const dump = new DumpContent(new Map());
  const look = new DumpRewriter(compileDumpTerms(dumpTermsOf(move, family)));
  const file = move.crate.at(movedDump);
  await readDump(file, together(dump, look), {
    signal: run.signal,
    progress: done => run.events({ type: 'progress', what: basename(file), done, of: 0, unit: 'bytes' }),
  });
  for (const place of look.tally.all()) leftOver.push(...leftOverIn(place));

  return withDatabase(way, async session => {
    const findings: Finding[] = [];
    const tell = (level: Finding['level'], code: Finding['code'], what: string, remedy: string) =>
      findings.push({ level, code, place: shownDatabase(way.place), what, remedy });
    await asWritten(session, dump);
    const now = await lookAt(run, session, loaded.tables);
    const tables = manifest.tables.map(({ table, rows }): TableComparison => {
      const newTable = newTableName(table, change);
      const proof = loaded.tables.find(one => one.table === newTable);
      const seen = now.get(newTable);
      const equal = proof?.equal === true && seen !== undefined;
      const since = equal && seen.digest !== proof.digest;
      const { taken } = proof ?? {};
      return { table: textOf(table), newTable, oldRows: rows, newRows: seen?.rows, equal, since, taken };
    });
    const changed = tables.filter(({ since }) => since);
    if (changed.length > 0) {
      tell(
        'note',
        'table-changed-since',
        `The site has written to ${changed.length} ${changed.length === 1 ? 'table' : 'tables'} since they were delivered: ${changed.map(({ newTable }) => newTable).join(', ')}`,
        'Nothing, if the new site has been opened meanwhile; a last delivery before the cutover puts them in anew',
      );
    }
    const standing = await tablesOf(session);
    const made = (kind: Program['kind']) =>
      dump.programs.filter(one => one.kind === kind).map(({ name }) => name);
    const known = new Set([...tables.map(({ newTable }) => newTable), ...made('VIEW')]);
    const prefix = change?.to ?? manifest.from.prefix ?? '';
    const extra = ownTables(standing, family, prefix, []).filter(({ name }) => !known.has(name));
    if (extra.length > 0) {
      tell(
        'note',
        'table-extra',
        `${extra.length} more ${extra.length === 1 ? 'table stands' : 'tables stand'} under the prefix "${prefix}": ${extra.map(({ name }) => name).join(', ')}`,
        'Look whether the new site made them',
      );
    }
    const programs = await session.rows(
      'SELECT TRIGGER_NAME FROM information_schema.TRIGGERS WHERE TRIGGER_SCHEMA = DATABASE()',
    );
    const there = new Set([...standing.map(({ name }) => name), ...programs.map(([name]) => name!)]);
    const missing = [...made('VIEW'), ...made('TRIGGER')].filter(name => !there.has(name));
    if (missing.length > 0) {
      tell(
        'stop',
        'program-missing',
        `Views or triggers of the old database are not there: ${missing.join(', ')}`,
        'Give the user the rights CREATE VIEW and TRIGGER, then deliver again',
      );
    }
    for (const [table, next] of dump.nextNumbers) {
      const found = standing.find(({ name }) => name === table)?.autoIncrement;
      if (found === undefined || BigInt(found) >= BigInt(next)) continue;
      tell(
        'warn',
        'numbers-begin-lower',
        `The table ${table} goes on counting at ${found}, the old one at ${next}`,
        `ALTER TABLE ${table} AUTO_INCREMENT = ${next}`,
      );
    }
    return { tables, findings };
  });
}

async function lookAt(
  run: StepRun,
  session: DatabaseSession,
  tables: readonly TableProof[],
): Promise<Map<string, { rows: number; digest: string }>> {
  const columns = await columnsOf(session);
  const seen = new Map<string, { rows: number; digest: string }>();
  for (const [i, { table }] of tables.entries()) {
    run.signal.throwIfAborted();
    run.events({ type: 'progress', what: table, done: i, of: tables.length, unit: 'tables' });
    if (columns.has(table)) seen.set(table, await contentOf(session, table, own(columns, table)));
  }
  return seen;
}

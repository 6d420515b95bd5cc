import { type EncodedSql, sql } from '../../../core/sql/encoded-sql.js';
import type { SeenServer } from '../database-end.js';
import type { DatabaseSession } from './session.js';

/** What the server of an open database says of itself. */
export async function serverOf(session: DatabaseSession, database: string): Promise<SeenServer> {
  const column = async (statement: EncodedSql) => (await session.rows(statement)).map(row => row[0] ?? '');
  const asked = Date.now();
  const [now] = await column(sql`SELECT UNIX_TIMESTAMP()`);
  const [version] = await column(sql`SELECT VERSION()`);
  const [packet] = await column(sql`SELECT @@max_allowed_packet`);
  const [modes] = await column(sql`SELECT @@sql_mode`);
  const [charset] = await column(sql`SELECT @@character_set_database`);
  const grants = await column(sql`SHOW GRANTS`);
  return {
    version: version ?? '',
    charsets: await column(sql`SHOW CHARACTER SET`),
    collations: await column(sql`SHOW COLLATION`),
    charset: charset ?? '',
    packet: Number(packet),
    modes: (modes ?? '').split(',').filter(Boolean),
    missingRights: missingIn(grants, database),
    tables: await column(sql`SHOW TABLES`),
    skew: Math.round(Number(now) - asked / 1000),
  };
}

const needed = ['SELECT', 'INSERT', 'UPDATE', 'DELETE', 'CREATE', 'DROP', 'ALTER', 'INDEX', 'LOCK TABLES'];

/** The rights that loading a dump and running a site need and that no grant gives. */
function missingIn(grants: readonly string[], database: string): string[] {
  const given = new Set<string>();
  for (const grant of grants) {
    const [, rights, on] = /^GRANT (.+?) ON (?:TABLE )?(\S+\.\S+) TO /.exec(grant) ?? [];
    if (!rights || !on || !coversDatabase(on, database)) continue;
    for (const right of rights.split(/,\s*/)) given.add(right.toUpperCase());
  }
  return given.has('ALL PRIVILEGES') ? [] : needed.filter(right => !given.has(right));
}

/** Whether the object of a grant covers a whole database; `_` and `%` mean characters in its name. */
function coversDatabase(on: string, database: string): boolean {
  const [scope, object] = on.replaceAll('`', '').split('.');
  if (object !== '*') return false;
  if (scope === '*') return true;
  const pattern = scope!.replace(/\\?[_%]|[^\w]/g, part =>
    part === '_' ? '.' : part === '%' ? '.*' : part.replace(/^\\/, '').replace(/\W/, '\\$&'),
  );
  return new RegExp(`^${pattern}$`, 'i').test(database);
}

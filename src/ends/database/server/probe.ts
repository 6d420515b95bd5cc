import { type EncodedSql, sql } from '../../../core/sql/encoded-sql.js';
import type { SeenServer } from '../database-end.js';
import type { DatabaseSession } from './session/session.js';

/** What the server of an open database says of itself. */
export async function serverOf(session: DatabaseSession, database: string): Promise<SeenServer> {
  const column = async (statement: EncodedSql) => (await session.rows(statement)).map(row => row[0] ?? '');
  const asked = Date.now();
  const [[facts], grants, charsets, collations, tables, hasRule] = await Promise.all([
    session.rows(
      sql`SELECT UNIX_TIMESTAMP(), VERSION(), @@max_allowed_packet, @@sql_mode, @@character_set_database`,
    ),
    column(sql`SHOW GRANTS`),
    column(sql`SHOW CHARACTER SET`),
    column(sql`SHOW COLLATION`),
    column(sql`SHOW TABLES`),
    hasRuleOnPrograms(session),
  ]);
  const [now, version, packet, modes, charset] = facts ?? [];
  return {
    version: version ?? '',
    charsets,
    collations,
    charset: charset ?? '',
    packet: Number(packet),
    modes: (modes ?? '').split(',').filter(Boolean),
    missingRights: missingIn(grants, database),
    reachesBeyond: grants.some(grant => everywhere.test(grant)),
    deniesPrograms: hasRule && !grants.some(grant => administrators.test(grant)),
    tables,
    skew: Math.round(Number(now) - asked / 1000),
  };
}

/** A grant on all databases; `USAGE` is none, and some single rights are reported elsewhere. */
const everywhere =
  /^GRANT (?!USAGE ON|PROXY ON).*\b(?:ALL PRIVILEGES|INSERT|UPDATE|DELETE|DROP|ALTER|CREATE|SUPER)\b.* ON \*\.\* TO /;
const administrators = /\b(?:ALL PRIVILEGES|SUPER|SET USER|SET_USER_ID|BINLOG ADMIN)\b.* ON \*\.\* TO /;

/** Whether a server refuses programs of others than its administrators, with its error 1419. */
async function hasRuleOnPrograms(session: DatabaseSession): Promise<boolean> {
  try {
    const [row] = await session.rows(sql`SELECT @@log_bin, @@log_bin_trust_function_creators`);
    return row?.[0] === '1' && row[1] === '0';
  } catch {
    // A server that does not know these has no such rule.
    return false;
  }
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

import { createHash } from 'node:crypto';
import { asBytes, bytesOfText } from '../../../../core/bytes.js';
import { PartWayError } from '../../../../core/errors.js';
import {
  type EncodedSql,
  identifier,
  literal,
  literalOfBytes,
  sql,
} from '../../../../core/sql/encoded-sql.js';
import type { LoadPosition } from '../../database-end.js';
import type { ServerSaid } from '../session/errors.js';
import type { DatabaseSession } from '../session/session.js';

/** So long an interrupted load may still run at the server, in seconds. */
const turnPatience = 120;

/** How far a load of some dump has come; undefined where none has begun. @param note the table that says so */
export async function positionOf(session: DatabaseSession, note: string): Promise<LoadPosition | undefined> {
  try {
    const [row] = await session.rows(sql`SELECT dump, done, table_name FROM ${identifier(note)}`);
    if (!row) return undefined;
    const [dump, done, table] = row;
    return { note, dump: dump ?? '', done: Number(done), table: bytesOfText(table ?? '') };
  } catch (error) {
    if ((error as ServerSaid).errno === noSuchTable) return undefined;
    throw error;
  }
}

const noSuchTable = 1146;

/**
 * Waits until no other connection loads with the same note: a server does all that was sent to it, also when whoever
 * sent it is gone. Held until the connection ends.
 */
export async function takeTurn(session: DatabaseSession, note: string): Promise<void> {
  const { name } = session.route.place;
  const lock = `able-porter-${createHash('sha256').update(`${name}\0${note}`).digest('hex').slice(0, 32)}`;
  const got = await session.value(sql`SELECT GET_LOCK(${literal(lock)}, ${turnPatience})`);
  if (got === '1') return;
  throw new PartWayError({
    doing: `Loading into the database ${name}`,
    cause: 'what another load has sent still runs at the server',
    remedy: 'Wait until it has ended, and run the command again; it resumes where it was',
  });
}

/** Notes that a load begins. @param dump its SHA-256 */
export async function beginLoad(session: DatabaseSession, note: string, dump: string): Promise<LoadPosition> {
  const table = identifier(note);
  await takeTurn(session, note);
  await session.runAll(
    sql`DROP TABLE IF EXISTS ${table}`,
    sql`CREATE TABLE ${table} (id TINYINT NOT NULL PRIMARY KEY, dump CHAR(64) NOT NULL, done BIGINT NOT NULL, table_name VARCHAR(64) NOT NULL) ENGINE=InnoDB DEFAULT CHARSET=utf8mb4`,
    sql`INSERT INTO ${table} VALUES (1, ${literal(dump)}, 0, '')`,
  );
  return { note, dump, done: 0, table: '' };
}

/** Removes the note. */
export async function endLoad(session: DatabaseSession, note: string): Promise<void> {
  await session.run(sql`DROP TABLE IF EXISTS ${identifier(note)}`);
}

/** The statement that notes how far a load is. */
export function notes(note: EncodedSql, { done, table }: LoadPosition): EncodedSql {
  return sql`UPDATE ${note} SET done = ${done}, table_name = ${literalOfBytes(asBytes(table))}`;
}

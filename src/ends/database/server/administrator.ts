import { createHash } from 'node:crypto';
import type { DatabasePlace } from '../../../core/database/place.js';
import { EndError, UsageError } from '../../../core/errors.js';
import { type EncodedSql, identifier, literal, quoteName, sql } from '../../../core/sql/encoded-sql.js';
import type { DatabaseServer, NewDatabase } from '../database-end.js';
import type { ServerSaid } from './session/errors.js';
import type { DatabaseRoute, DatabaseSession } from './session/session.js';
import { withDatabase } from './session/with-database.js';

/** A server opened with an administrator's credentials. */
export class AdministratorServer implements DatabaseServer {
  private readonly route: DatabaseRoute;

  constructor(route: DatabaseRoute) {
    this.route = route;
  }

  provision(wanted: NewDatabase): Promise<string[]> {
    return withDatabase(this.route, session => provision(session, wanted));
  }

  unprovision(wanted: NewDatabase, made: readonly string[]): Promise<string[]> {
    return withDatabase(this.route, session => unprovision(session, wanted, made));
  }
}

/** Removes what `provision` made. */
async function unprovision(
  session: DatabaseSession,
  { name, user }: NewDatabase,
  made: readonly string[],
): Promise<string[]> {
  const left: string[] = [];
  if (made.includes(databaseText(name))) {
    const [row] = await session.rows(
      sql`SELECT COUNT(*) FROM information_schema.TABLES WHERE TABLE_SCHEMA = ${literal(name)}`,
    );
    if (row?.[0] === '0') await session.run(sql`DROP DATABASE IF EXISTS ${identifier(name)}`);
    else left.push(databaseText(name));
  }
  if (made.includes(userText(user))) {
    const self = (await session.value(sql`SELECT CURRENT_USER()`)) ?? '';
    const host = literal(self.slice(self.lastIndexOf('@') + 1));
    if (left.length === 0) await session.run(sql`DROP USER IF EXISTS ${literal(user)}@${host}`);
    else left.push(userText(user));
  }
  return left;
}

function databaseText(name: string): string {
  return `the database ${name}`;
}

function userText(user: string): string {
  return `the user ${user}`;
}

async function provision(session: DatabaseSession, { name, user, password }: NewDatabase): Promise<string[]> {
  const made: string[] = [];
  const isMariaDb = /mariadb/i.test((await session.value(sql`SELECT VERSION()`)) ?? '');
  refuseLongNames({ name, user }, isMariaDb);
  const self = (await session.value(sql`SELECT CURRENT_USER()`)) ?? '';
  // The site's user may connect from where the administrator connects from.
  const account = sql`${literal(user)}@${literal(self.slice(self.lastIndexOf('@') + 1))}`;
  const there = await session.rows(sql`SHOW DATABASES LIKE ${literal(escapedPattern(name))}`);
  if (there.length === 0) {
    await session.run(sql`CREATE DATABASE ${identifier(name)} CHARACTER SET utf8mb4`);
    made.push(databaseText(name));
  }
  try {
    await session.run(sql`CREATE USER ${account} IDENTIFIED ${secretOf(password, isMariaDb)}`);
    made.push(userText(user));
  } catch (error) {
    // One that is there keeps the password that it has; others may use it.
    if ((error as ServerSaid).errno !== 1396) throw withoutPassword(error as ServerSaid);
  }
  await session.run(sql`GRANT ALL PRIVILEGES ON ${identifier(escapedPattern(name))}.* TO ${account}`);
  made.push(`all rights of ${user} on ${name}`);
  return made;
}

/** A name in a GRANT or LIKE, where `_` and `%` mean other characters unless they are escaped. */
function escapedPattern(name: string): string {
  return name.replace(/[_%]/g, '\\$&');
}

/**
 * A password as a server takes it; where it takes one that was hashed already, its own logs and its list of processes do
 * not show it (https://mariadb.com/kb/en/create-user/).
 */
function secretOf(password: string, isMariaDb: boolean): EncodedSql {
  if (!isMariaDb || password === '') return sql`BY ${literal(password)}`;
  const sha1 = (of: string | Buffer) => createHash('sha1').update(of).digest();
  return sql`BY PASSWORD ${literal(`*${sha1(sha1(password)).toString('hex').toUpperCase()}`)}`;
}

/** https://mariadb.com/kb/en/identifier-names/, https://dev.mysql.com/doc/refman/8.0/en/identifier-length.html */
function refuseLongNames({ name, user }: Pick<NewDatabase, 'name' | 'user'>, isMariaDb: boolean): void {
  const longest = { database: 64, user: isMariaDb ? 80 : 32 };
  for (const [what, text] of [
    ['database', name],
    ['user', user],
  ] as const) {
    if ([...text].length <= longest[what]) continue;
    throw new UsageError({
      doing: 'Provisioning the new database',
      cause: `the name of the ${what} is longer than the server takes (${longest[what]} characters)`,
      remedy: 'Give it a shorter one in new.database.server',
    });
  }
}

/** A server quotes the statement that it does not understand, and a password may be in it. */
function withoutPassword(error: ServerSaid): EndError {
  return new EndError({
    doing: 'Creating the user of the new database',
    kind: 'refused',
    cause: `the server refuses (${error.code ?? 'no code'})`,
    remedy: 'Its rules for passwords may ask for more: give new.database.password yourself',
  });
}

/** What a person runs where no administrator's credentials are given: statements as text. */
export function provisionByHand({ name, user }: Pick<DatabasePlace, 'name' | 'user'>): string {
  return [
    `CREATE DATABASE ${quoteName(name)} CHARACTER SET utf8mb4`,
    `CREATE USER ${accountText(user, 'localhost')} IDENTIFIED BY '…'`,
    grantByHand({ name, user }, 'localhost'),
  ].join('; ');
}

/** What a person runs to give a user all rights on a database, as text. */
export function grantByHand({ name, user }: Pick<DatabasePlace, 'name' | 'user'>, host: string): string {
  return `GRANT ALL PRIVILEGES ON ${quoteName(escapedPattern(name))}.* TO ${accountText(user, host)}`;
}

function accountText(user: string, host: string): string {
  return `'${user.replaceAll("'", "''").replaceAll('\\', '\\\\')}'@'${host}'`;
}

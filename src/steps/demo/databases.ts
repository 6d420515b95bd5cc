import { readDatabaseUrl } from '../../core/database/place.js';
import { loadNoteName } from '../../core/database/reserved-names.js';
import { UsageError } from '../../core/errors.js';
import { Workbench } from '../../core/kernels/workbench.js';
import { type EncodedSql, identifier, literal, sql } from '../../core/sql/encoded-sql.js';
import type { DatabaseEnd } from '../../ends/database/database-end.js';
import { DumpWriter } from '../../ends/database/dump/writer.js';
import { ServerDatabase } from '../../ends/database/server/server-database.js';
import type { DatabaseRoute } from '../../ends/database/server/session/session.js';
import { withDatabase } from '../../ends/database/server/session/with-database.js';
import { checksumOf } from '../../ends/move-folder/crate-part.js';

/** A database of the demo at a real server, and who may open it. */
interface DemoDatabase {
  readonly name: string;
  readonly user: string;
  readonly password: string;
}

/** The demo's two databases at a real server; they are made for it and dropped after it. */
export class DemoDatabases {
  readonly host: string;
  readonly port: number;
  private readonly administrator: DatabaseRoute;
  private readonly databases: readonly DemoDatabase[];
  private readonly bench = new Workbench();
  /** What was made here, and may therefore be removed. */
  private readonly made: EncodedSql[] = [];

  /**
   * @param url `mysql://administrator@host:port/`
   * @param password the administrator's, where it is not in the URL
   * @throws UsageError where the URL is none
   */
  constructor(url: string, password: string | undefined, databases: readonly DemoDatabase[]) {
    const place = readDatabaseUrl(url);
    if (!place?.user) {
      throw new UsageError({
        doing: 'Creating the demo at a database server',
        cause: '--database is not a URL such as mysql://user@host:port/',
        remedy: 'Name a server on which the demo may make two databases, and an account that may do so',
      });
    }
    this.administrator = {
      place: { ...place, name: '', password: place.password || (password ?? '') },
      through: undefined,
    };
    this.host = place.host === 'localhost' ? '127.0.0.1' : place.host;
    this.port = place.port;
    this.databases = databases;
  }

  /** @throws UsageError where a database of that name is there already */
  async make(): Promise<void> {
    const there = await new ServerDatabase(this.administrator).use(connection => connection.databases());
    for (const { name } of this.databases) {
      if (!there.some(one => one.name === name)) continue;
      throw new UsageError({
        doing: 'Creating the demo at a database server',
        cause: `it has a database ${name} already, perhaps of an interrupted demo`,
        remedy: `Drop it if nothing needs it: DROP DATABASE ${name}`,
      });
    }
    await withDatabase(this.administrator, async session => {
      for (const { name, user, password } of this.databases) {
        await session.run(sql`CREATE DATABASE ${identifier(name)} CHARACTER SET utf8mb4`);
        this.made.push(sql`DATABASE ${identifier(name)}`);
        for (const host of ['%', 'localhost']) {
          const account = sql`${literal(user)}@${literal(host)}`;
          await session.run(sql`CREATE USER ${account} IDENTIFIED BY ${literal(password)}`);
          this.made.push(sql`USER ${account}`);
          await session.run(sql`GRANT ALL PRIVILEGES ON ${identifier(name)}.* TO ${account}`);
        }
      }
    });
  }

  /** Loads a dump into one of them. */
  async load(name: string, file: string, signal: AbortSignal): Promise<void> {
    await this.database(name).use(async connection => {
      const note = loadNoteName('demo');
      const position = await connection.beginLoad(note, (await checksumOf(file)).sha256);
      await connection.load(file, position, { bench: this.bench, server: await connection.server(), signal });
      await connection.endLoad(note);
    });
  }

  /** Writes what is in one of them to a dump. */
  async dump(name: string, file: string, signal: AbortSignal): Promise<void> {
    const snapshot = await this.database(name).snapshot({ charset: undefined, choose: all => all });
    const writer = new DumpWriter(this.bench, file, { checksum: false });
    try {
      writer.take(snapshot.head(new Date()));
      snapshot.expect(snapshot.own.map(table => ({ table })));
      for (const table of snapshot.own) await snapshot.writeTable(table, writer, signal);
      writer.take(snapshot.tail());
      await writer.finish();
    } finally {
      await snapshot.close();
    }
  }

  /** Drops what was made. */
  async remove(): Promise<void> {
    if (this.made.length === 0) return;
    await withDatabase(this.administrator, async session => {
      for (const one of this.made.splice(0)) await session.run(sql`DROP ${one}`);
    });
  }

  private database(name: string): DatabaseEnd {
    return new ServerDatabase({ place: { ...this.administrator.place, name }, through: undefined });
  }
}

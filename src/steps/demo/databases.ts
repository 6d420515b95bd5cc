import { readDatabaseUrl } from '../../core/database/place.js';
import { UsageError } from '../../core/errors.js';
import { quoteName, quoteText } from '../../core/sql/column.js';
import { DumpWriter } from '../../ends/database/dump/writer.js';
import { bytes } from '../../ends/database/server/catalog.js';
import { beginLoad, endLoad, loadDump } from '../../ends/database/server/load.js';
import { serverOf } from '../../ends/database/server/probe.js';
import { type DatabaseWay, withDatabase } from '../../ends/database/server/session.js';
import { Snapshot } from '../../ends/database/server/snapshot.js';
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
  private readonly administrator: DatabaseWay;
  private readonly databases: readonly DemoDatabase[];
  /** What was made here, and may therefore be taken away. */
  private readonly made: string[] = [];

  /**
   * @param url `mysql://administrator@host:port/`
   * @param password the administrator's, where it does not stand in the URL
   * @throws UsageError where the URL is none
   */
  constructor(url: string, password: string | undefined, databases: readonly DemoDatabase[]) {
    const place = readDatabaseUrl(url);
    if (!place?.user) {
      throw new UsageError({
        doing: 'Making the demo at a database server',
        cause: '--database is no mysql://user@host:port/',
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

  /** @throws UsageError where something of that name stands there already */
  async make(): Promise<void> {
    await withDatabase(this.administrator, async session => {
      for (const { name } of this.databases) {
        if ((await session.rows(`SHOW DATABASES LIKE ${quoteText(name)}`)).length === 0) continue;
        throw new UsageError({
          doing: 'Making the demo at a database server',
          cause: `it has a database ${name} already, perhaps of a demo that was broken off`,
          remedy: `Drop it if nothing needs it: DROP DATABASE ${name}`,
        });
      }
      for (const { name, user, password } of this.databases) {
        await session.run(`CREATE DATABASE ${quoteName(name)} CHARACTER SET utf8mb4`);
        this.made.push(`DATABASE ${quoteName(name)}`);
        const account = `${quoteText(user)}@'%'`;
        for (const one of [account, account.replace("'%'", "'localhost'")]) {
          await session.run(`CREATE USER ${one} IDENTIFIED BY ${bytes(quoteText(password))}`);
          this.made.push(`USER ${one}`);
          await session.run(`GRANT ALL PRIVILEGES ON ${quoteName(name)}.* TO ${one}`);
        }
      }
    });
  }

  /** Loads a dump into one of them. */
  async load(name: string, file: string, signal: AbortSignal): Promise<void> {
    await withDatabase(this.wayTo(name), async session => {
      const position = await beginLoad(session, (await checksumOf(file)).sha256);
      await loadDump(session, file, position, { server: await serverOf(session, name), signal });
      await endLoad(session);
    });
  }

  /** Writes what stands in one of them to a dump. */
  async dump(name: string, file: string, signal: AbortSignal): Promise<void> {
    const snapshot = await Snapshot.open(this.wayTo(name), undefined, () => true);
    const writer = new DumpWriter(file, { checksum: false });
    try {
      writer.take(snapshot.head(new Date()));
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
      for (const one of this.made.splice(0)) await session.run(`DROP ${one}`);
    });
  }

  private wayTo(name: string): DatabaseWay {
    const { place } = this.administrator;
    return { place: { ...place, name }, through: undefined };
  }
}

import { createHash } from 'node:crypto';
import type { AddressInfo, Server } from 'node:net';
import mysql from 'mysql2';
import type { StandinDatabase } from './database.js';

/** What a stand-in server says of itself. */
export interface ServerNature {
  readonly version: string;
  readonly packet: number;
  readonly charsets: readonly string[];
  readonly collations: readonly string[];
  readonly grants: readonly string[];
  /** Its clock less this machine's, in seconds. */
  readonly skew: number;
}

const usual: ServerNature = {
  version: '10.11.6-MariaDB-0+deb12u1',
  packet: 16 * 1024 * 1024,
  charsets: ['latin1', 'utf8mb3', 'utf8mb4', 'binary'],
  collations: ['latin1_swedish_ci', 'utf8mb3_general_ci', 'utf8mb4_general_ci', 'utf8mb4_unicode_ci'],
  grants: [],
  skew: 0,
};

/** The credentials that a client sends. */
interface Said {
  readonly user: string;
  readonly database: string;
  readonly authPluginData1: Buffer;
  readonly authPluginData2: Buffer;
  readonly authToken: Uint8Array;
}

/** What a client that knows the password shows for a server's challenge (the protocol's native method). */
function tokenOf(password: string, ...challenge: Buffer[]): Buffer {
  const sha1 = (...parts: (string | Buffer)[]) =>
    parts.reduce((hash, part) => hash.update(part), createHash('sha1')).digest();
  const once = sha1(password);
  const mask = sha1(...challenge, sha1(once));
  return once.map((byte, i) => byte ^ mask[i]!) as Buffer;
}

/**
 * A database server that simulates a real one, on a free loopback port: it speaks the protocol, checks user,
 * password and database as the stand-in database has them, and answers what a survey asks. It stores nothing.
 */
export class StandinDatabaseServer {
  private readonly database: StandinDatabase;
  private readonly nature: ServerNature;
  private readonly server: ReturnType<typeof mysql.createServer>;
  private connections = 0;

  constructor(database: StandinDatabase, nature: Partial<ServerNature> = {}) {
    this.database = database;
    this.nature = { ...usual, ...nature };
    this.server = mysql.createServer(connection => this.welcome(connection));
  }

  /** Starts to listen; gives the port. */
  async listen(): Promise<number> {
    // The package's types do not describe the server within.
    const server = this.server as unknown as {
      _server: Server;
      listen(port: number, host: string, listening: () => void): void;
    };
    return new Promise((resolve, reject) => {
      server._server.once('error', reject);
      server.listen(0, '127.0.0.1', () => resolve((server._server.address() as AddressInfo).port));
    });
  }

  async close(): Promise<void> {
    await new Promise<void>(resolve => this.server.close(() => resolve()));
  }

  // biome-ignore lint/suspicious/noExplicitAny: the server side of the package is not typed
  private welcome(connection: any): void {
    connection.on('error', () => {
      // A client that goes away is its own affair.
    });
    connection.serverHandshake({
      protocolVersion: 10,
      serverVersion: this.nature.version,
      connectionId: ++this.connections,
      statusFlags: 2,
      characterSet: 45,
      // No TLS, and no several statements in one packet.
      capabilityFlags: 0xffffff ^ 0x800 ^ 0x10000,
      authCallback: (
        said: Said,
        done: (error: unknown, refusal?: { code: number; message: string }) => void,
      ) => {
        done(null, this.refusalOf(said));
        connection.sequenceId = 0;
      },
    });
    connection.on('query', (sql: string) => this.answer(connection, sql));
    connection.on('quit', () => connection.close?.());
  }

  private refusalOf(said: Said): { code: number; message: string } | undefined {
    const { name, user, password } = this.database.credentials;
    const expected = tokenOf(password, said.authPluginData1, said.authPluginData2);
    if (said.user !== user || !expected.equals(Buffer.from(said.authToken)))
      return {
        code: 1045,
        message: `Access denied for user '${said.user}'@'localhost' (using password: YES)`,
      };
    return said.database === name
      ? undefined
      : { code: 1049, message: `Unknown database '${said.database}'` };
  }

  // biome-ignore lint/suspicious/noExplicitAny: as above
  private answer(connection: any, sql: string): void {
    const { version, packet, charsets, collations, grants, skew } = this.nature;
    const { name, user } = this.database.credentials;
    const all = [
      `GRANT USAGE ON *.* TO \`${user}\`@\`%\``,
      `GRANT ALL PRIVILEGES ON \`${name}\`.* TO \`${user}\`@\`%\``,
    ];
    const facts =
      'SELECT UNIX_TIMESTAMP(), VERSION(), @@max_allowed_packet, @@sql_mode, @@character_set_database';
    const modes = 'STRICT_TRANS_TABLES,NO_ENGINE_SUBSTITUTION';
    const inColumn = (list: readonly string[]) => list.map(one => [one]);
    const said: Readonly<Record<string, readonly (readonly (string | number)[])[]>> = {
      [facts]: [[Math.round(Date.now() / 1000) + skew, version, packet, modes, 'utf8mb4']],
      'SHOW CHARACTER SET': inColumn(charsets),
      'SHOW COLLATION': inColumn(collations),
      'SHOW GRANTS': inColumn(grants.length > 0 ? grants : all),
      'SHOW TABLES': inColumn(this.database.names()),
    };
    // Each answer is a conversation of its own, which the package leaves to its user.
    connection.sequenceId = 1;
    const rows = said[sql];
    if (!rows) connection.writeError({ code: 1064, message: 'The stand-in does not know this statement' });
    else {
      const names = (rows[0] ?? ['']).map((_, i) => `said${i}`);
      connection.writeTextResult(
        rows.map(row => Object.fromEntries(row.map((value, i) => [`said${i}`, String(value)]))),
        names.map(columnNamed),
      );
    }
    connection.sequenceId = 0;
  }
}

/** A column of text, as the protocol describes it. */
function columnNamed(name: string) {
  return {
    catalog: 'def',
    schema: '',
    table: '',
    orgTable: '',
    name,
    orgName: '',
    characterSet: 45,
    columnLength: 255,
    columnType: 253,
    flags: 0,
    decimals: 0,
  };
}

import { cpSync, mkdirSync, readFileSync, writeFileSync } from 'node:fs';
import { createServer, type RequestListener } from 'node:http';
import type { AddressInfo } from 'node:net';
import { dirname, join } from 'node:path';
import { gunzipSync, gzipSync } from 'node:zlib';
import type { Finding } from '../../src/core/findings/findings.js';
import { StandinDatabase } from '../../src/standins/database.js';
import { type ServerNature, StandinDatabaseServer } from '../../src/standins/database-server.js';
import { StandinDnsServer } from '../../src/standins/dns/dns-server.js';
import { writeClubDump, writeClubFiles } from '../../src/standins/rowing-club/write.js';
import { StandinWebSite } from '../../src/standins/web/web-site.js';
import { openMove } from '../../src/steps/move/open.js';
import { unlimitedRate } from '../../src/steps/move/rate-limit.js';
import { survey } from '../../src/steps/survey.js';

const oldPlace = {
  address: 'https://club.saltmarsh.example/site',
  temporary: 'http://tmp-4417.oldhost.example/~club',
  prefix: 'sr4_',
};
const password = "n'e w";

/** What a situation may change of a move that is otherwise without a fault. */
export class Stage {
  readonly root: string;
  /** The lines of the zone. */
  zone: readonly string[];
  language: Record<string, unknown> = {};
  server: Partial<ServerNature> = {};
  password = password;
  /** Takes the place of the old or the new web server. */
  answer: Partial<Record<'old' | 'new', RequestListener>> = {};
  /** Tables that are in the new database. */
  newTables: string | undefined;
  private readonly changes: ((sheet: string) => string)[] = [];

  constructor(root: string, zone: readonly string[]) {
    this.root = root;
    this.zone = zone;
  }

  /** Puts a file into the old site; `../` and other ends by their path from the root. */
  put(path: string, content: string | Buffer): void {
    const file = join(this.root, path.startsWith('/') ? path.slice(1) : `old/site/${path}`);
    mkdirSync(dirname(file), { recursive: true });
    writeFileSync(file, content);
  }

  edit(path: string, from: string | RegExp, to: string): void {
    const file = join(this.root, 'old/site', path);
    const before = readFileSync(file, 'utf8');
    const after = before.replace(from, to);
    if (after === before) throw new Error(`${from} is not in ${path}`);
    writeFileSync(file, after);
  }

  editDump(change: (dump: string) => string): void {
    const file = join(this.root, 'old/club.sql.gz');
    writeFileSync(file, gzipSync(change(gunzipSync(readFileSync(file)).toString('latin1')), { level: 1 }));
  }

  sheet(from: string | RegExp, to: string): void {
    this.changes.push(text => {
      if (text.replace(from, to) === text) throw new Error(`${from} is not in the sheet`);
      return text.replace(from, to);
    });
  }

  sheetText(places: Record<'old' | 'new' | 'database' | 'dns', string>): string {
    const text = `name: saltmarsh
old:
  address: ${oldPlace.address}
  also: [${oldPlace.temporary}]
  reach: ${places.old}
  files: ../old/site
  database: { dump: ../old/club.sql.gz }
new:
  address: https://saltmarshrowing.example
  reach: ${places.new}
  files: ../new/htdocs
  probe: true
  database:
    server: mysql://saltmarsh@${places.database}/saltmarsh
    password: \${PW}
    prefix: row_
    dump: ../new/finished.sql.gz
take:
  files: { without: ["wp-content/cache/", "*.log"] }
dns: { address-records: { old: 192.0.2.10, new: 198.51.100.20 }, resolvers: ["${places.dns}"] }
`;
    return this.changes.reduce((sheet, change) => change(sheet), text);
  }
}

/** The club, written once, to be copied for every situation. */
export async function makeBase(root: string): Promise<void> {
  const database = { name: 'club_old', user: 'club', password: 'old pw', host: 'localhost' };
  await writeClubFiles(join(root, 'old/site'), oldPlace, database);
  await writeClubDump(join(root, 'old/club.sql.gz'), oldPlace);
  mkdirSync(join(root, 'new/htdocs'), { recursive: true });
  mkdirSync(join(root, 'move'));
}

/** Surveys a copy of the club with something changed, among stand-ins of everything that it needs. */
export async function surveyWith(
  base: string,
  root: string,
  change: (stage: Stage) => void,
): Promise<readonly Finding[]> {
  cpSync(base, root, { recursive: true });
  const stage = new Stage(root, [
    'club.saltmarsh.example. 600 A 192.0.2.10',
    'saltmarshrowing.example. 600 A 203.0.113.7',
  ]);
  const oldDatabase = new StandinDatabase({ name: 'club_old', user: 'club', password: 'old pw' });
  await oldDatabase.load(join(root, 'old/club.sql.gz'));
  change(stage);
  const newDatabase = new StandinDatabase({ name: 'saltmarsh', user: 'saltmarsh', password });
  if (stage.newTables !== undefined) {
    writeFileSync(join(root, 'there.sql'), stage.newTables);
    await newDatabase.load(join(root, 'there.sql'));
  }
  const closing: (() => Promise<unknown>)[] = [];
  const site = async (end: 'old' | 'new', folder: string, mount: string, database: StandinDatabase) => {
    const listener = stage.answer[end];
    if (!listener) {
      const web = new StandinWebSite(join(root, folder), mount, database);
      web.language = { ...web.language, ...stage.language };
      closing.push(() => web.close());
      return web.listen();
    }
    const server = createServer(listener);
    closing.push(() => new Promise(resolve => server.close(resolve)));
    await new Promise<void>(resolve => server.listen(0, '127.0.0.1', resolve));
    return `http://127.0.0.1:${(server.address() as AddressInfo).port}`;
  };
  const dns = new StandinDnsServer([['example. 600 SOA ns1 keeper 1 2 3 4 5', ...stage.zone].join('\n')]);
  closing.push(() => dns.close());
  const server = new StandinDatabaseServer(newDatabase, stage.server);
  closing.push(() => server.close());
  try {
    const places = {
      old: await site('old', 'old/site', '/site', oldDatabase),
      new: await site('new', 'new/htdocs', '', newDatabase),
      database: `127.0.0.1:${await server.listen()}`,
      dns: await dns.listen(),
    };
    const sheet = join(root, 'move/move.yaml');
    writeFileSync(sheet, stage.sheetText(places));
    const move = await openMove(sheet, { PW: stage.password });
    const run = { move, events: () => {}, signal: new AbortController().signal, rate: unlimitedRate };
    return (await survey(run)).findings;
  } finally {
    await Promise.all(closing.map(close => close()));
  }
}

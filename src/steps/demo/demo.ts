import { mkdir, mkdtemp, readdir, rm, writeFile } from 'node:fs/promises';
import { tmpdir } from 'node:os';
import { join, resolve } from 'node:path';
import { UsageError } from '../../core/errors.js';
import type { Finding } from '../../core/findings/findings.js';
import type { Workbench } from '../../core/kernels/workbench.js';
import type { PageComparison } from '../../core/pages/compare.js';
import { fromConfiguration, writeSheet } from '../../core/sheet/write.js';
import { wordpress } from '../../core/site/families/wordpress.js';
import { readDump } from '../../ends/database/dump/reader.js';
import { movedDump } from '../../ends/move-folder/crate.js';
import { whileDoing } from '../../ends/system-errors.js';
import { type Credentials, StandinDatabase } from '../../standins/database.js';
import { StandinDatabaseServer } from '../../standins/database-server.js';
import { StandinDnsServer } from '../../standins/dns-server.js';
import { StandinSftpServer } from '../../standins/hosting/sftp-server.js';
import { writeClubDump, writeClubFiles } from '../../standins/rowing-club/write.js';
import { StandinWebSite } from '../../standins/web-site.js';
import { comparePagesOf } from '../check/pages.js';
import { check } from '../check.js';
import { cutover } from '../cutover.js';
import { deliver } from '../deliver.js';
import type { EventSink } from '../move/events.js';
import { openMove } from '../move/open.js';
import { unlimitedRate } from '../move/rate-limit.js';
import type { StepOutcome, StepRun } from '../move/step.js';
import { pack } from '../pack.js';
import { redirects } from '../redirects.js';
import { rewrite } from '../rewrite.js';
import { survey } from '../survey.js';
import { DemoDatabases } from './databases.js';

/** A fault put into the new site on purpose, and what check said of it. */
interface DemoFault {
  readonly what: string;
  readonly found: Finding | undefined;
  readonly page: PageComparison | undefined;
}

export interface DemoOutcome {
  readonly folder: string;
  readonly kept: boolean;
  /** What survey found at first, before the sheet was corrected. */
  readonly firstFindings: readonly Finding[];
  readonly faults: readonly DemoFault[];
  readonly outcomes: {
    readonly survey: Awaited<ReturnType<typeof survey>>;
    readonly pack: Awaited<ReturnType<typeof pack>>;
    readonly rewrite: Awaited<ReturnType<typeof rewrite>>;
    readonly deliver: Awaited<ReturnType<typeof deliver>>;
    readonly check: Awaited<ReturnType<typeof check>>;
    readonly redirects: Awaited<ReturnType<typeof redirects>>;
    readonly cutover: Awaited<ReturnType<typeof cutover>>;
  };
}

const oldPlace = {
  address: 'https://club.saltmarsh.example/site',
  temporary: 'http://tmp-4417.oldhost.example/~club',
  prefix: 'sr4_',
};
const newAddress = 'https://saltmarshrowing.example';
const oldDatabase = { name: 'club_old', user: 'club', password: 'o\'ld \\ pa"ss', host: 'localhost' };
const newDatabase = {
  name: 'saltmarsh',
  user: 'saltmarsh',
  password: "n€w 'row' $creek\\%",
  host: '127.0.0.1',
};

/** The same at a real server, under names of their own. */
const liveDatabase = {
  old: { ...oldDatabase, name: 'able_porter_demo_old', user: 'able_porter_old' },
  new: { ...newDatabase, name: 'able_porter_demo_new', user: 'able_porter_new' },
};

const accounts = {
  old: { user: 'porter', password: 'ebb tide 7' },
  new: { user: 'saltmarsh', password: 'flood tide 9' },
};

/** What the club's zone says; the TTL is the one that panels begin with. */
const zone: StandinDnsServer['records'] = [
  { type: 'A', name: 'club.saltmarsh.example', ttl: 14_400, data: '192.0.2.10' },
  {
    type: 'MX',
    name: 'club.saltmarsh.example',
    ttl: 14_400,
    data: { preference: 10, exchange: 'mail.saltmarsh.example' },
  },
  { type: 'A', name: 'saltmarshrowing.example', ttl: 300, data: '203.0.113.7' },
];

/**
 * Makes the Saltmarsh Rowing Club's site on an old host, and moves it to a new one: with faults put in on purpose
 * to show them being found, and then right.
 * @param keep a folder to make it in and leave it in; undefined for a temporary one
 * @param server a database server on which both databases are made, with its administrator's password; undefined to let the dump go as a file
 * @param whenDone is given the result while both sites are still being served
 */
export async function demo(
  keep: string | undefined,
  server: { readonly url: string; readonly password: string | undefined } | undefined,
  events: EventSink,
  signal: AbortSignal,
  whenDone: (outcome: DemoOutcome) => Promise<void>,
): Promise<DemoOutcome> {
  const folder =
    keep === undefined ? await mkdtemp(join(tmpdir(), 'able-porter-demo-')) : await cleared(resolve(keep));
  const at = (...parts: string[]) => join(folder, ...parts);
  const oldFolder = at('old-host', 'htdocs', 'site');
  const newFolder = at('new-host', 'htdocs');
  const real =
    server === undefined
      ? undefined
      : new DemoDatabases(server.url, server.password, [liveDatabase.old, liveDatabase.new]);
  const databases = {
    old: real ? { ...liveDatabase.old, host: `${real.host}:${real.port}` } : oldDatabase,
    new: real ? { ...liveDatabase.new, host: real.host } : newDatabase,
  };
  await writeClubFiles(oldFolder, oldPlace, databases.old);
  await writeClubDump(at('old-host', 'club.sql.gz'), oldPlace);
  await mkdir(newFolder, { recursive: true });
  await writeFile(join(newFolder, 'index.html'), '<h1>This space is waiting for its site</h1>\n');

  const database = { old: new StandinDatabase(databases.old), new: new StandinDatabase(databases.new) };
  await database.old.load(at('old-host', 'club.sql.gz'));
  const sites = {
    old: new StandinWebSite(oldFolder, '/site', database.old),
    new: new StandinWebSite(newFolder, '', database.new),
  };
  const servers = {
    database: new StandinDatabaseServer(database.new),
    dns: new StandinDnsServer(zone),
    // A host that gives its accounts a shell, and one that keeps them to their files.
    oldFiles: new StandinSftpServer(at('old-host'), accounts.old, true),
    newFiles: new StandinSftpServer(at('new-host'), accounts.new, false),
  };
  const reach: Reach = {
    old: await sites.old.listen(),
    new: await sites.new.listen(),
    database: real?.port ?? (await servers.database.listen()),
    dns: await servers.dns.listen(),
    oldFiles: { port: await servers.oldFiles.listen(), key: servers.oldFiles.fingerprint },
    newFiles: { port: await servers.newFiles.listen(), key: servers.newFiles.fingerprint },
  };
  const runs: StepRun[] = [];
  try {
    if (real) {
      await real.make();
      await real.load(databases.old.name, at('old-host', 'club.sql.gz'), signal);
    }
    const open = async (also: readonly string[]): Promise<StepRun> => {
      await mkdir(at('move'), { recursive: true });
      await writeFile(at('move', 'move.yaml'), sheetOf(folder, also, reach, real && databases.new));
      const secrets = [
        `NEW_DB_PASSWORD=\`${databases.new.password}\``,
        `OLD_FILES_PASSWORD='${accounts.old.password}'`,
        `NEW_FILES_PASSWORD='${accounts.new.password}'`,
      ];
      await writeFile(at('move', '.env'), `${secrets.join('\n')}\n`, { mode: 0o600 });
      const run = { move: await openMove(at('move', 'move.yaml'), {}), events, signal, rate: unlimitedRate };
      runs.push(run);
      return run;
    };
    const first = await survey(await open([]));
    const run = await open([oldPlace.temporary]);
    const outcomes = {
      survey: await survey(run),
      pack: await pack(run),
      rewrite: await rewrite(run),
      deliver: await deliver(run),
    };
    const faults = await showFaults(run, database, at);
    // The stand-in web sites read dumps.
    const finished = at('new-host', 'finished.sql.gz');
    await real?.dump(databases.new.name, finished, signal);
    await database.new.load(finished);
    const outcome: DemoOutcome = {
      folder,
      kept: keep !== undefined,
      firstFindings: first.findings,
      faults,
      outcomes: {
        ...outcomes,
        check: await check(run),
        redirects: await redirects(run),
        cutover: await cutover(run),
      },
    };
    await whenDone(outcome);
    return outcome;
  } finally {
    for (const { move } of runs) move.accounts.close();
    const all = [sites.old, sites.new, ...Object.values(servers)];
    await Promise.all(all.map(one => one.close()));
    // Both hosts are gone by now, and nothing else reaches these.
    await real?.remove();
    if (keep === undefined) await rm(folder, { recursive: true, force: true });
  }
}

const quiet: EventSink = () => {};

/** What goes wrong most often at a new host, done on purpose and looked at with the eyes of check. */
async function showFaults(
  run: StepRun,
  database: { old: StandinDatabase; new: StandinDatabase },
  at: (...parts: string[]) => string,
): Promise<DemoFault[]> {
  const faults: DemoFault[] = [];
  const look = async (what: string) => {
    const { pages, findings } = await comparePagesOf({ ...run, events: quiet }, wordpress);
    faults.push({ what, found: findings[0], page: pages[0] });
  };
  const right = database.new.credentials;
  database.new.credentials = { ...right, password: 'another' };
  await look('The password in the configuration is not the database’s');
  database.new.credentials = right;
  await database.new.load(at('old-host', 'club.sql.gz'));
  await look('The dump was loaded as it was taken, with the old table prefix');
  const hasty = await withNewPrefixOnly(run.move.bench, at);
  await database.new.load(hasty);
  await rm(hasty);
  await look('The prefix is right, but the addresses were not rewritten');
  return faults;
}

/** The old dump with its tables renamed and nothing else, as a hasty hand would do it. */
async function withNewPrefixOnly(bench: Workbench, at: (...parts: string[]) => string): Promise<string> {
  const chunks: Buffer[] = [];
  await readDump(
    bench,
    at('move', 'crate', movedDump),
    { push: chunk => chunks.push(Buffer.from(chunk)), finish: () => {} },
    { signal: new AbortController().signal },
  );
  const file = at('move', 'hasty.sql');
  await writeFile(
    file,
    Buffer.concat(chunks).toString('latin1').replaceAll(newAddress, oldPlace.address),
    'latin1',
  );
  return file;
}

async function cleared(folder: string): Promise<string> {
  const ours = ['move', 'new-host', 'old-host'];
  const names = await readdir(folder).catch(() => []);
  const foreign = names.find(name => !ours.includes(name));
  if (foreign !== undefined) {
    throw new UsageError({
      doing: `Creating the demo in ${folder}`,
      cause: `something else (${foreign}) is there`,
      remedy: 'Name an empty folder, or one in which the demo was before',
    });
  }
  for (const name of names)
    await whileDoing(`Clearing ${folder}`, () => rm(join(folder, name), { recursive: true }));
  return folder;
}

/** Where the demo's hosts listen. */
interface Reach {
  readonly old: string;
  readonly new: string;
  readonly database: number;
  readonly dns: string;
  readonly oldFiles: { readonly port: number; readonly key: string };
  readonly newFiles: { readonly port: number; readonly key: string };
}

/** @param live the new database where both are at a real server */
function sheetOf(
  folder: string,
  also: readonly string[],
  reach: Reach,
  live: Credentials | undefined,
): string {
  const next = live ?? newDatabase;
  return writeSheet({
    openBase64: true,
    name: 'saltmarsh',
    oldAddress: oldPlace.address,
    also,
    oldReach: reach.old,
    oldFiles: `sftp://${accounts.old.user}@127.0.0.1:${reach.oldFiles.port}/htdocs/site`,
    oldLogin: { password: '${OLD_FILES_PASSWORD}', 'host-key': reach.oldFiles.key },
    oldDump: live ? fromConfiguration : join(folder, 'old-host', 'club.sql.gz'),
    newAddress,
    newReach: reach.new,
    newFiles: `sftp://${accounts.new.user}@127.0.0.1:${reach.newFiles.port}/htdocs`,
    newLogin: { password: '${NEW_FILES_PASSWORD}', 'host-key': reach.newFiles.key },
    newDump: live ? undefined : join(folder, 'new-host', 'finished.sql.gz'),
    newServer: `mysql://${next.user}@127.0.0.1:${reach.database}/${next.name}`,
    probe: true,
    newPrefix: 'row_',
    without: wordpress.without,
    leave: [],
    webServer: 'apache',
    oldRecord: '192.0.2.10',
    newRecord: '198.51.100.20',
    resolvers: [reach.dns],
  });
}

/** For the terminal: whether everything that the demo set out to show was seen. */
export function demoPassed({ faults, outcomes }: DemoOutcome): boolean {
  const done = (Object.values(outcomes) as StepOutcome<unknown>[]).every(({ state }) => state !== 'stopped');
  const pages = outcomes.check.result.pages;
  return (
    done &&
    faults.every(({ found }) => found?.level === 'stop') &&
    pages.every(({ verdict }) => verdict === 'same')
  );
}

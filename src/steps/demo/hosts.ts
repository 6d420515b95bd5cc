import { mkdir, writeFile } from 'node:fs/promises';
import { join } from 'node:path';
import type { TsigKey } from '../../core/dns/message/tsig.js';
import { nameOfHost, parseName } from '../../core/dns/records/name.js';
import { UsageError } from '../../core/errors.js';
import { fromConfiguration, type SheetLogin, writeSheet } from '../../core/sheet/write.js';
import { wordpress } from '../../core/site/families/wordpress.js';
import { StandinAcmeServer } from '../../standins/acme.js';
import { type Credentials, StandinDatabase } from '../../standins/database.js';
import { StandinDatabaseServer } from '../../standins/database-server.js';
import { StandinDnsServer } from '../../standins/dns/dns-server.js';
import { StandinResolver } from '../../standins/dns/resolver.js';
import { StandinHatch } from '../../standins/hatch/hatch.js';
import { PhpHatches } from '../../standins/hatch/php.js';
import { StandinFtpServer } from '../../standins/hosting/ftp-server.js';
import { HostFolder } from '../../standins/hosting/host-folder.js';
import { Misbehaviour } from '../../standins/hosting/misbehaviour.js';
import { StandinSftpServer } from '../../standins/hosting/sftp-server.js';
import { accessLog, writeArchive } from '../../standins/rowing-club/archive.js';
import { writeClubDump, writeClubFiles } from '../../standins/rowing-club/write.js';
import { StandinWebSite } from '../../standins/web/web-site.js';
import { DemoDatabases } from './databases.js';
import { DemoStore } from './store.js';

export const oldPlace = {
  address: 'https://club.saltmarsh.example/site',
  temporary: 'http://tmp-4417.oldhost.example/~club',
  prefix: 'sr4_',
};
export const newAddress = 'https://saltmarshrowing.example';
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

/** The key with which the club's DNS server takes updates. */
const dnsKey: TsigKey = {
  name: parseName('porter.'),
  algorithm: 'hmac-sha256',
  secret: Buffer.from('slack water in the creek, 1987'),
};

/** So many seconds pass for the resolver in one, so that nobody waits for a TTL. */
export const resolverSpeed = 60;

/** The club's zones; the TTL is the one that panels begin with. */
const zones = [
  `$ORIGIN saltmarsh.example.
$TTL 14400
@ SOA ns1 keeper 2026110901 7200 900 1209600 3600
  NS ns1
ns1 A 192.0.2.53
club A 192.0.2.10
  MX 10 mail
mail A 192.0.2.25
`,
  `$ORIGIN saltmarshrowing.example.
$TTL 600
@ SOA ns1.saltmarsh.example. keeper.saltmarsh.example. 2026110901 7200 900 1209600 300
  NS ns1.saltmarsh.example.
  A 203.0.113.7
`,
];

/** How the demo's hosts are made. */
export interface DemoWay {
  /** A database server for both databases, with its administrator's password; undefined for simulated ones. */
  readonly server: { readonly url: string; readonly password: string | undefined } | undefined;
  /** Both hosts have only FTP and a web server, and this runs the hatches there; undefined for hosts with SSH. */
  readonly hatches: 'simulated' | 'php' | undefined;
  /** The crate is stored at a simulated service too. */
  readonly stores: boolean;
}

type FilesServer = StandinSftpServer | StandinFtpServer;

/** The old and the new host of the demo, with everything that serves the site there. */
export class DemoHosts {
  readonly oldDump: string;
  readonly newDatabase: StandinDatabase;
  private readonly folder: string;
  private readonly real: DemoDatabases | undefined;
  private readonly credentials: {
    readonly old: Credentials & { readonly host: string };
    readonly new: Credentials;
  };
  private readonly oldDatabase: StandinDatabase;
  private readonly sites: { readonly old: StandinWebSite; readonly new: StandinWebSite };
  private readonly servers: {
    readonly database: StandinDatabaseServer;
    readonly dns: StandinDnsServer;
    readonly resolver: StandinResolver;
    readonly authority: StandinAcmeServer;
    readonly oldFiles: FilesServer;
    readonly newFiles: FilesServer;
  };
  private readonly hatches: DemoWay['hatches'];
  private readonly php: PhpHatches[] = [];
  private readonly store: DemoStore | undefined;
  private reach: Reach | undefined;

  constructor(folder: string, { server, hatches, stores }: DemoWay) {
    this.folder = folder;
    this.store = stores ? new DemoStore(folder) : undefined;
    this.hatches = hatches;
    this.oldDump = this.at('old-host', 'club.sql.gz');
    const real =
      server && new DemoDatabases(server.url, server.password, [liveDatabase.old, liveDatabase.new]);
    this.real = real;
    this.credentials = {
      old: real ? { ...liveDatabase.old, host: `${real.host}:${real.port}` } : oldDatabase,
      new: real ? { ...liveDatabase.new, host: real.host } : newDatabase,
    };
    this.oldDatabase = new StandinDatabase(this.credentials.old);
    this.newDatabase = new StandinDatabase(this.credentials.new);
    this.sites = {
      old: new StandinWebSite(this.oldFolder, '/site', this.oldDatabase),
      new: new StandinWebSite(this.newFolder, '', this.newDatabase),
    };
    const dns = new StandinDnsServer(zones, { keys: [dnsKey] });
    this.servers = {
      database: new StandinDatabaseServer(this.newDatabase),
      dns,
      resolver: new StandinResolver([dns], { speed: resolverSpeed }),
      authority: new StandinAcmeServer({
        txt: async host => dns.textsOf(nameOfHost(host)),
        page: async () => undefined,
      }),
      ...this.filesServers(),
    };
  }

  /** A host that gives its accounts a shell, and one that keeps them to their files; or two that have only FTP. */
  private filesServers(): { readonly oldFiles: FilesServer; readonly newFiles: FilesServer } {
    const [old, next] = [this.at('old-host'), this.at('new-host')];
    return this.hatches
      ? {
          oldFiles: new StandinFtpServer(old, accounts.old),
          newFiles: new StandinFtpServer(next, accounts.new),
        }
      : {
          oldFiles: new StandinSftpServer(old, accounts.old, true),
          newFiles: new StandinSftpServer(next, accounts.new, false),
        };
  }

  /** Lets the web servers answer for hatches. */
  private async openHatches(): Promise<void> {
    const places = [
      { site: this.sites.old, host: 'old-host', root: '/htdocs/site' },
      { site: this.sites.new, host: 'new-host', root: '/htdocs' },
    ];
    for (const { site, host, root } of places) {
      if (this.hatches === 'php') {
        const php = await PhpHatches.start(this.at(host, root)).catch(cause => {
          throw new UsageError(
            {
              doing: 'Creating the demo with hatches',
              cause: `PHP does not run here: ${cause.message}`,
              remedy: 'Install php, or use --hatch alone, which simulates it',
            },
            { cause },
          );
        });
        this.php.push(php);
        site.hatches = php;
      } else site.hatches = new StandinHatch(new HostFolder(this.at(host), new Misbehaviour()), root);
    }
  }

  /** Writes the old site and what waits at the new host, and serves both. */
  async open(signal: AbortSignal): Promise<void> {
    await writeClubFiles(this.oldFolder, oldPlace, this.credentials.old);
    await writeArchive(this.oldFolder);
    await writeClubDump(this.oldDump, oldPlace);
    await mkdir(this.newFolder, { recursive: true });
    await writeFile(join(this.newFolder, 'index.html'), '<h1>This space is waiting for its site</h1>\n');
    await this.oldDatabase.load(this.oldDump);
    if (this.hatches) await this.openHatches();
    const { database, dns, resolver, authority, oldFiles, newFiles } = this.servers;
    this.reach = {
      old: await this.sites.old.listen(),
      new: await this.sites.new.listen(),
      database: this.real?.port ?? (await database.listen()),
      dns: await dns.listen(),
      authority: await authority.listen(),
      resolver: await resolver.listen(),
      oldFiles: await listening(oldFiles),
      newFiles: await listening(newFiles),
      store: await this.store?.listen(),
    };
    await this.real?.make();
    await this.real?.load(this.credentials.old.name, this.oldDump, signal);
  }

  /** Writes the sheet and the secrets of the move. @param also other addresses of the old site @returns the sheet's file */
  async writeMove(also: readonly string[]): Promise<string> {
    if (!this.reach) throw new Error('the hosts are not open');
    await mkdir(this.at('move'), { recursive: true });
    const sheet = this.at('move', 'move.yaml');
    await writeFile(this.at('move', 'access.log'), accessLog('/site'));
    await writeFile(this.at('move', 'authority.pem'), this.reach.authority.trust);
    await writeFile(sheet, sheetOf(this.folder, also, this.reach, this.real && this.credentials.new));
    const secrets = [
      `NEW_DB_PASSWORD=\`${this.credentials.new.password}\``,
      `OLD_FILES_PASSWORD='${accounts.old.password}'`,
      `NEW_FILES_PASSWORD='${accounts.new.password}'`,
      `DNS_KEY='${dnsKey.secret.toString('base64')}'`,
    ];
    await writeFile(this.at('move', '.env'), `${secrets.join('\n')}\n`, { mode: 0o600 });
    await this.store?.addTo(this.at('move'), this.reach.store!);
    return sheet;
  }

  /** Lets the new site use the data that was delivered; the simulated web sites read it from a dump. */
  async serveDelivered(signal: AbortSignal): Promise<void> {
    const finished = this.at('new-host', 'finished.sql.gz');
    await this.real?.dump(this.credentials.new.name, finished, signal);
    await this.newDatabase.load(finished);
  }

  /** Ends everything that listens, and removes the databases at a real server. */
  async close(): Promise<void> {
    const all = [
      this.sites.old,
      this.sites.new,
      ...Object.values(this.servers),
      ...this.php,
      ...(this.store ? [this.store] : []),
    ];
    await Promise.all(all.map(one => one.close()));
    await this.real?.remove();
  }

  private get oldFolder(): string {
    return this.at('old-host', 'htdocs', 'site');
  }

  private get newFolder(): string {
    return this.at('new-host', 'htdocs');
  }

  private at(...parts: string[]): string {
    return join(this.folder, ...parts);
  }
}

/** Where the demo's hosts listen. */
interface Reach {
  readonly old: string;
  readonly new: string;
  readonly database: number;
  readonly dns: string;
  readonly resolver: string;
  readonly authority: { readonly directory: string; readonly trust: string };
  readonly oldFiles: FilesReach;
  readonly newFiles: FilesReach;
  readonly store: string | undefined;
}

/** Where files are reached: the protocol, and the key of its host where it has one. */
interface FilesReach {
  readonly port: number;
  readonly protocol: 'ftp' | 'sftp';
  readonly key: string | undefined;
}

async function listening(server: FilesServer): Promise<FilesReach> {
  const port = await server.listen();
  return server instanceof StandinSftpServer
    ? { port, protocol: 'sftp', key: server.fingerprint }
    : { port, protocol: 'ftp', key: undefined };
}

/** The address of a folder at one of the hosts. */
function placeAt({ protocol, port }: FilesReach, user: string, folder: string): string {
  return `${protocol}://${user}@127.0.0.1:${port}${folder}`;
}

function loginWith(variable: string, { key }: FilesReach): SheetLogin {
  return { password: `\${${variable}}`, ...(key === undefined ? {} : { 'host-key': key }) };
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
    hatches: reach.oldFiles.protocol === 'ftp',
    oldFiles: placeAt(reach.oldFiles, accounts.old.user, '/htdocs/site'),
    oldLogin: loginWith('OLD_FILES_PASSWORD', reach.oldFiles),
    oldDump: live ? fromConfiguration : join(folder, 'old-host', 'club.sql.gz'),
    newAddress,
    newReach: reach.new,
    newFiles: placeAt(reach.newFiles, accounts.new.user, '/htdocs'),
    newLogin: loginWith('NEW_FILES_PASSWORD', reach.newFiles),
    newDump: live ? undefined : join(folder, 'new-host', 'finished.sql.gz'),
    newServer: `mysql://${next.user}@127.0.0.1:${reach.database}/${next.name}`,
    probe: true,
    newPrefix: 'row_',
    without: [...wordpress.without, '/archive/'],
    leave: [],
    webServer: 'apache',
    logs: ['access.log'],
    oldRecord: '192.0.2.10',
    newRecord: '198.51.100.20',
    dnsServer: {
      url: `dns://${reach.dns}`,
      key: { name: 'porter', algorithm: dnsKey.algorithm, secret: '${DNS_KEY}' },
    },
    certificate: { directory: reach.authority.directory, trust: 'authority.pem' },
    resolvers: [reach.resolver],
  });
}

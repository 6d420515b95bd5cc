import { mkdir, writeFile } from 'node:fs/promises';
import { join } from 'node:path';
import { stringify as csv } from 'csv-stringify/sync';
import { stringify } from 'yaml';
import type { TsigKey } from '../../core/dns/message/tsig.js';
import { parseName } from '../../core/dns/records/name.js';
import { StandinDatabase } from '../../standins/database.js';
import { StandinDatabaseServer } from '../../standins/database-server.js';
import { StandinDnsServer } from '../../standins/dns/dns-server.js';
import { StandinResolver } from '../../standins/dns/resolver.js';
import { StandinSftpServer } from '../../standins/hosting/sftp-server.js';
import { writeClubDump, writeClubFiles } from '../../standins/rowing-club/write.js';
import { StandinWebSite } from '../../standins/web/web-site.js';

/** The made-up clubs of the fleet, by the names of their sites. */
const clubs: Readonly<Record<string, string>> = {
  saltmarsh: 'Saltmarsh Rowing Club',
  'fenwick-staithe': 'Fenwick Staithe Boat Club',
  'heron-reach': 'Heron Reach Scullers',
  'mallow-lock': 'Mallow Lock Rowing Club',
  'osier-bank': 'Osier Bank Ladies’ Eights',
  'pike-pool': 'Pike Pool Coastal Rowing',
  'quill-ferry': 'Quill Ferry Gig Club',
  'reedham-hythe': 'Reedham Hythe Rowers',
  'sallow-weir': 'Sallow Weir Veterans',
  'teal-water': 'Teal Water School Boat Club',
  'upper-sluice': 'Upper Sluice Rowing Association',
  'widgeon-creek': 'Widgeon Creek Rowing Club',
};

const accounts = {
  old: { user: 'agency', password: 'spring tide 3' },
  new: { user: 'agency', password: 'neap tide 8' },
};
const dnsKey: TsigKey = {
  name: parseName('porter.'),
  algorithm: 'hmac-sha256',
  secret: Buffer.from('twelve boats on one slipway'),
};
/** So many seconds pass for the resolver in one, so that nobody waits for a TTL. */
const resolverSpeed = 300;

const zone = `$ORIGIN clubs.example.
$TTL 3600
@ SOA ns1 agency 2026120101 7200 900 1209600 3600
  NS ns1
ns1 A 192.0.2.53
${Object.keys(clubs)
  .map(name => `${name} A 192.0.2.10`)
  .join('\n')}
`;

/** A club's site at both hosts. */
interface ClubSites {
  readonly name: string;
  readonly old: StandinWebSite;
  readonly new: StandinWebSite;
  readonly oldData: StandinDatabase;
  readonly database: StandinDatabaseServer;
}

/** The old and the new host of the demo's fleet, with everything that serves its sites, and `fleet.yaml`. */
export class FleetHosts {
  /** The folder of `fleet.yaml`. */
  readonly fleet: string;
  private readonly folder: string;
  private readonly sites: readonly ClubSites[];
  private readonly files: { readonly old: StandinSftpServer; readonly new: StandinSftpServer };
  private readonly dns = new StandinDnsServer([zone], { keys: [dnsKey] });
  private readonly resolver = new StandinResolver([this.dns], { speed: resolverSpeed });

  constructor(folder: string) {
    this.folder = folder;
    this.fleet = join(folder, 'fleet');
    this.files = {
      old: new StandinSftpServer(this.at('old-host'), accounts.old, true),
      new: new StandinSftpServer(this.at('new-host'), accounts.new, false),
    };
    this.sites = Object.keys(clubs).map(name => {
      const oldData = new StandinDatabase(oldDatabase(name));
      const newData = new StandinDatabase({ name, user: name, password: newPassword(name) });
      newData.follows = join(this.fleet, 'moves', name, 'finished.sql.gz');
      return {
        name,
        oldData,
        old: new StandinWebSite(this.at('old-host/clubs', name), '', oldData),
        new: new StandinWebSite(this.at('new-host/sites', name), '', newData),
        database: new StandinDatabaseServer(newData),
      };
    });
  }

  /** Writes the old sites and the fleet, and serves both hosts. */
  async open(): Promise<void> {
    const rows: Record<string, string>[] = [];
    await mkdir(this.at('new-host/sites'), { recursive: true });
    for (const { name, old, new: next, oldData, database } of this.sites) {
      const address = `https://${name}.clubs.example`;
      const place = {
        address,
        temporary: `http://tmp.oldhost.example/~${name}`,
        prefix: 'sr4_',
        title: clubs[name]!,
      };
      const dump = this.at('old-host/dumps', `${name}.sql.gz`);
      await writeClubFiles(this.at('old-host/clubs', name), place, {
        ...oldDatabase(name),
        host: 'localhost',
      });
      await writeClubDump(dump, place);
      await oldData.load(dump);
      const reach = { 'old reach': await old.listen(), 'new reach': await next.listen() };
      rows.push({ name, address, ...reach, 'database port': String(await database.listen()) });
    }
    await mkdir(this.fleet, { recursive: true });
    await writeFile(join(this.fleet, 'clubs.csv'), csv(rows, { header: true }));
    await writeFile(join(this.fleet, 'fleet.yaml'), await this.sheet());
    const secrets = [
      `OLD_FILES_PASSWORD='${accounts.old.password}'`,
      `NEW_FILES_PASSWORD='${accounts.new.password}'`,
      `DNS_KEY='${dnsKey.secret.toString('base64')}'`,
      ...Object.keys(clubs).map(
        name => `DB_${name.toUpperCase().replace(/\W/g, '_')}='${newPassword(name)}'`,
      ),
    ];
    await writeFile(join(this.fleet, '.env'), `${secrets.join('\n')}\n`, { mode: 0o600 });
  }

  private async sheet(): Promise<string> {
    const [old, next] = [await this.files.old.listen(), await this.files.new.listen()];
    const [server, resolver] = [await this.dns.listen(), await this.resolver.listen()];
    return stringify(
      {
        name: 'clubs',
        'at-once': 4,
        'per-host': 4,
        sites: 'clubs.csv',
        template: {
          old: {
            address: '{address}',
            also: ['http://tmp.oldhost.example/~{name}'],
            reach: '{old reach}',
            files: `sftp://${accounts.old.user}@127.0.0.1:${old}/clubs/{name}`,
            login: { password: '${OLD_FILES_PASSWORD}', 'host-key': this.files.old.fingerprint },
            database: { dump: join(this.folder, 'old-host/dumps/{name}.sql.gz') },
          },
          new: {
            address: '{address}',
            reach: '{new reach}',
            files: `sftp://${accounts.new.user}@127.0.0.1:${next}/sites/{name}`,
            login: { password: '${NEW_FILES_PASSWORD}', 'host-key': this.files.new.fingerprint },
            probe: true,
            database: {
              server: 'mysql://{name}@127.0.0.1:{database port}/{name}',
              password: '${DB_{NAME}}',
              dump: 'finished.sql.gz',
            },
          },
          take: { files: { without: ['wp-content/cache/', '*.log'] } },
          check: { pages: 100 },
          dns: {
            server: `dns://${server}`,
            servers: [`dns://${server}`],
            key: { name: 'porter', algorithm: dnsKey.algorithm, secret: '${DNS_KEY}' },
            resolvers: [resolver],
            'address-records': { old: '192.0.2.10', new: '198.51.100.20' },
          },
        },
        waves: { of: 4, 'watch-for': 120, every: 0.5 },
      },
      { lineWidth: 0 },
    );
  }

  /** The file of a club's site at the old host. */
  oldFile(name: string, path: string): string {
    return this.at('old-host/clubs', name, path);
  }

  async close(): Promise<void> {
    const all = this.sites.flatMap(site => [site.old, site.new, site.database]);
    await Promise.all(
      [...all, this.files.old, this.files.new, this.dns, this.resolver].map(one => one.close()),
    );
  }

  private at(...parts: string[]): string {
    return join(this.folder, ...parts);
  }
}

function oldDatabase(name: string) {
  return { name: `${name.replace(/\W/g, '_')}_old`, user: 'club', password: 'o\'ld \\ pa"ss' };
}

function newPassword(name: string): string {
  return `n€w ${name} $%`;
}

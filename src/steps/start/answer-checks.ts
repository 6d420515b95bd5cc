import { basename, dirname, resolve } from 'node:path';
import { addressPath, formatAddress, parseAddress } from '../../core/address/address.js';
import { isReservedName } from '../../core/address/reserved.js';
import { textOf } from '../../core/bytes.js';
import { readDatabaseUrl } from '../../core/database/place.js';
import { addressToText } from '../../core/dns/records/ip.js';
import { EndError, PorterError } from '../../core/errors.js';
import { Workbench } from '../../core/kernels/workbench.js';
import { readPage } from '../../core/pages/read/page.js';
import { readServerHeaders } from '../../core/pages/read/server-headers.js';
import { dialectOfServer } from '../../core/redirects/dialects/dialects.js';
import { fromConfiguration } from '../../core/sheet/write.js';
import { counted } from '../../core/text/numbers.js';
import type { SeenServer } from '../../ends/database/database-end.js';
import { isPacked } from '../../ends/database/dump/reader.js';
import { ServerDatabase } from '../../ends/database/server/server-database.js';
import { Resolver } from '../../ends/dns/resolver.js';
import { testFolder } from '../../ends/files/folder-test.js';
import { FilesAccounts, type FilesPlace } from '../../ends/files/place.js';
import { WebSite } from '../../ends/http/web-site.js';
import type { AskTrust } from '../../ends/trust/ask-trust.js';
import { type Trust, trustIn } from '../../ends/trust/trust.js';
import { landingText } from '../move/landing.js';
import { lookAtSite, type Site, treeOf } from '../move/read-site.js';
import { surveyDump } from '../survey/dump.js';
import { existingFolder } from '../survey/place.js';
import type { AnswerTest, Secrets, StartWish } from './answers.js';

/** Tests each answer to `start` as it comes, and offers what was found for those that follow. */
export class AnswerTests {
  private readonly from: string;
  private readonly signal: AbortSignal;
  private readonly trust: Trust;
  private site: Site | undefined;
  private folders: readonly string[] = [];
  private accounts: FilesAccounts | undefined;
  /** Whether the old address leads to the old site; undefined where nobody was asked. */
  oldAnswers: boolean | undefined;

  /** @param sheetFile relative places count from its folder */
  constructor(sheetFile: string, signal: AbortSignal, ask?: AskTrust) {
    this.from = dirname(resolve(sheetFile));
    this.signal = signal;
    this.trust = trustIn(this.from, ask);
  }

  /** The old site as its files show it, once they were tested. */
  get oldSite(): Site | undefined {
    return this.site;
  }

  /** Folders on the old server that the dump's data names. */
  get oldFolders(): readonly string[] {
    return this.folders;
  }

  /** Asks a site for its home page. */
  async address(wish: StartWish, end: 'old' | 'new'): Promise<AnswerTest> {
    const address = parseAddress((end === 'old' ? wish.old : wish.new)!);
    const reach = end === 'old' ? wish.oldReach : wish.newReach;
    if (reach === undefined && isReservedName(address.host))
      return { good: undefined, said: `${address.host} is set aside for examples; nobody is asked` };
    const trust = { certificates: this.trust.certificates, wanted: undefined, key: `${end}.certificate` };
    const site = new WebSite(address, reach === undefined ? undefined : parseAddress(reach), { trust });
    try {
      const { status, html, headers, address: ended } = await site.get('/', this.signal);
      const { server } = readServerHeaders(headers);
      const title = (await readPage(html)).title;
      const offers = end === 'old' ? offersOf(server) : {};
      const elsewhere = new URL(ended).host !== new URL(formatAddress(address)).host;
      const said = `answers with ${status}${title ? `, "${title}"` : ''}${server ? `, served by ${server}` : ''}${elsewhere ? `, and sends visitors to ${ended}` : ''}`;
      const isThere = status < 400 && !elsewhere;
      if (end === 'old' && reach === undefined) this.oldAnswers = isThere;
      return { good: end === 'new' || isThere, said, offers };
    } catch (error) {
      this.signal.throwIfAborted();
      if (end === 'old' && reach === undefined) this.oldAnswers = false;
      return {
        good: end === 'new' ? undefined : false,
        said: `does not answer: ${(error as Error).message}`,
      };
    }
  }

  /** Looks at the old site's folder. */
  async oldFiles(wish: StartWish, secrets: Secrets): Promise<AnswerTest> {
    return this.guarded(async () => {
      const place = this.placeOf(wish, 'old', secrets);
      const files = place.open();
      if (!(await files.isThere())) {
        const landing = await landingText(place);
        return { good: false, said: `there is no such folder${landing && `; ${landing}`}` };
      }
      const site = await lookAtSite(treeOf(place, files), parseAddress(wish.old!));
      this.site = site;
      const kind = [site.family.name, site.version.version].filter(Boolean).join(' ');
      const inner = site.by.length === 0 ? await this.siteWithin(place) : undefined;
      if (inner !== undefined) return { good: false, said: `not a site itself; ${inner}` };
      if (site.configuration === undefined)
        return {
          good: site.by.length === 0 ? undefined : false,
          said:
            site.by.length === 0 ? 'a site of no known family' : `a ${kind} site without its configuration`,
        };
      const prefix = site.facts?.prefix?.value;
      const name = site.facts?.name?.value;
      const database = name === undefined ? '' : `, database ${textOf(name)}`;
      const tables = prefix === undefined ? '' : `, table prefix "${textOf(prefix)}"`;
      const said = site.facts
        ? `a ${kind} site${database}${tables} (${site.configuration})`
        : `a ${kind} site whose configuration cannot be parsed`;
      return { good: site.facts !== undefined, said };
    });
  }

  /** What site is in one of a folder's own folders, which is a common slip. */
  private async siteWithin(place: FilesPlace): Promise<string | undefined> {
    for await (const { path, type } of place.open().list(one => one.path.includes('/'), this.signal)) {
      if (type !== 'folder') continue;
      const within = await lookAtSite(treeOf(place.below(textOf(path))), parseAddress('https://a.example'));
      if (within.by.length > 0) return `a ${within.family.name} site is in its folder ${textOf(path)}`;
    }
    return undefined;
  }

  /** Looks through the dump: whether it is whole, and whether it is the site's. */
  async oldDump(wish: StartWish): Promise<AnswerTest> {
    if (wish.oldDump === fromConfiguration)
      return { good: undefined, said: 'will be opened by survey, as the configuration says' };
    return this.guarded(async () => {
      const file = resolve(this.from, wish.oldDump!);
      await isPacked(file);
      const { dump, folders } = await surveyDump(
        { events: () => {}, signal: this.signal, bench: new Workbench() },
        file,
        this.site?.family,
      );
      this.folders = folders.all().map(({ folder }) => folder);
      const rows = dump.tables.reduce((sum, table) => sum + table.rows, 0);
      const said = `${dump.tables.length} tables, ${rows} rows`;
      const prefix = this.site?.facts?.prefix?.value;
      if (prefix !== undefined && dump.prefixes.length > 0 && !dump.prefixes.includes(prefix))
        return {
          good: false,
          said: `${said}, but their prefix is "${dump.prefixes.join('" or "')}" and the configuration says "${textOf(prefix)}"`,
        };
      const own = new URL(wish.old!).host;
      const also = dump.hosts
        .filter(({ host, ownPaths }) => host !== own && ownPaths > 0)
        .map(
          ({ host, forms, base }) =>
            `${(forms.https ?? 0) >= (forms.http ?? 0) ? 'https' : 'http'}://${host}${base ?? ''}`,
        );
      const earlier = also.length > 0 ? `; it was served as ${also.join(' and ')} too` : '';
      return { good: true, said: `${said}${earlier}`, offers: also.length > 0 ? { also } : {} };
    });
  }

  /** Tries to write where the new site's folder will stand. */
  async newFiles(wish: StartWish, secrets: Secrets): Promise<AnswerTest> {
    return this.guarded(async () => {
      const place = this.placeOf(wish, 'new', secrets);
      const above = (await existingFolder(place.above)).open();
      const { writable, renames } = await testFolder(above, 'start', this.signal);
      if (!writable || !renames) return { good: false, said: `nothing can be written in ${above.place}` };
      const entry = place.open();
      let standing = 0;
      if (await entry.isThere())
        for await (const _ of entry.list(one => one.path.includes('/'), this.signal)) standing++;
      const there =
        standing === 0
          ? 'empty'
          : `${counted(standing, 'file or folder is', 'files and folders are')} there; they are kept`;
      return { good: true, said: `can be written, ${there}` };
    });
  }

  /** Opens the new database. */
  async database(wish: StartWish, secrets: Secrets): Promise<AnswerTest> {
    const password = secrets[wish.newPassword ?? 'NEW_DB_PASSWORD'];
    const place = readDatabaseUrl(wish.newServer!)!;
    if (password === undefined)
      return { good: undefined, said: 'was not tried, since its password is not known yet' };
    if (wish.newThrough && /^ftps?:/i.test(wish.newFiles ?? ''))
      return { good: undefined, said: 'will be reached through a hatch, and is tried by survey' };
    const through = wish.newThrough ? this.placeOf(wish, 'new', secrets).ssh : undefined;
    const database = new ServerDatabase({ place: { ...place, password }, through });
    let seen: SeenServer;
    try {
      seen = await database.use(connection => connection.server());
    } catch (error) {
      if (!(error instanceof EndError)) throw error;
      const { kind, details, exitCode } = error;
      const good = kind === 'unreachable' && !through ? undefined : false;
      const said = `${kind}: ${details.cause}`;
      return { good, said, remedy: details.remedy, exitCode };
    }
    const missing = seen.missingRights.length > 0 ? `, but may not ${seen.missingRights.join(', ')}` : '';
    return {
      good: seen.missingRights.length === 0,
      said: `opens: ${seen.version}, ${seen.tables.length} tables there${missing}`,
    };
  }

  /** The addresses that a host's name leads to, to be offered. */
  async records(address: string, resolvers: readonly string[] = []): Promise<string | undefined> {
    const { host } = parseAddress(address);
    if (isReservedName(parseAddress(address).host) && resolvers.length === 0) return undefined;
    const records = await new Resolver(resolvers).records(host, 'A', this.signal).catch(() => []);
    const found = records.find(({ type }) => type === 'A');
    return found && addressToText(found.data);
  }

  /** A name for the move, as it follows from the new address. */
  static nameFor(address: string): string {
    const { host, ...others } = parseAddress(address);
    const path = addressPath({ host, ...others });
    return basename(host.split('.')[0]! + path.replace(/[^\w.-]+/g, '-').replace(/-$/, ''));
  }

  /** The place of an end, with the login that was given for it last. */
  private placeOf(wish: StartWish, end: 'old' | 'new', secrets: Secrets): FilesPlace {
    const [place, key, variable] =
      end === 'old'
        ? [wish.oldFiles!, wish.oldKey, wish.oldFilesPassword ?? 'OLD_FILES_PASSWORD']
        : [wish.newFiles!, wish.newKey, wish.newFilesPassword ?? 'NEW_FILES_PASSWORD'];
    // An account that was tried with another password is not used again.
    this.accounts?.close();
    this.accounts = new FilesAccounts(this.from, this.trust);
    return this.accounts.place(place, { key, password: secrets[variable] });
  }

  /** Ends the connections of the checks. */
  close(): void {
    this.accounts?.close();
  }

  private async guarded(work: () => Promise<AnswerTest>): Promise<AnswerTest> {
    try {
      return await work();
    } catch (error) {
      this.signal.throwIfAborted();
      if (!(error instanceof PorterError)) throw error;
      const { cause, remedy } = error.details;
      return { good: false, said: cause, remedy, exitCode: error.exitCode };
    }
  }
}

function offersOf(server: string | undefined): Partial<StartWish> {
  const webServer = dialectOfServer(server);
  return webServer === undefined ? {} : { webServer };
}

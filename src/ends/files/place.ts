import { realpath } from 'node:fs/promises';
import { basename, dirname, join, resolve } from 'node:path';
import { fileURLToPath } from 'node:url';
import { type ByteString, bytesOfText } from '../../core/bytes.js';
import { UsageError } from '../../core/errors.js';
import { parsePlaceUrl, withoutCredentials } from '../../core/files/place-url.js';
import type { Hatch } from '../hatch/hatch.js';
import type { SheetLogin } from '../ssh/login.js';
import type { SshSession } from '../ssh/session.js';
import type { Trust } from '../trust/trust.js';
import type { FilesEnd } from './files-end.js';
import { LocalFiles } from './local.js';
import type { FilesAccount } from './protocol.js';
import { protocolOf, protocols, schemes } from './protocols.js';

/** A place for files: a path in an account. */
export class FilesPlace {
  private readonly account: FilesAccount;
  /** Absolute. */
  readonly path: string;

  constructor(account: FilesAccount, path: string) {
    this.account = account;
    this.path = path;
  }

  /** The place as text, without a password; it names the same place for as long as the account is the same. */
  get text(): string {
    return this.account.name + this.path;
  }

  toString(): string {
    return this.text;
  }

  /** The last part of the path. */
  get name(): string {
    return basename(this.path);
  }

  get isLocal(): boolean {
    return this.account.isLocal;
  }

  /** Whether the password and the files cross the network unencrypted. */
  get inClear(): boolean {
    return this.account.inClear;
  }

  get ssh(): SshSession | undefined {
    return this.account.ssh;
  }

  get hatch(): Hatch | undefined {
    return this.account.hatch;
  }

  /** The place as a folder to work in. */
  open(): FilesEnd {
    return this.account.open(this.path, this.text);
  }

  /** The same without a hatch. */
  openStraight(): FilesEnd {
    return this.account.openStraight?.(this.path, this.text) ?? this.open();
  }

  /** A place inside this one. */
  below(path: string): FilesPlace {
    return new FilesPlace(this.account, join(this.path, path));
  }

  /** The folder around it; the root is around itself. */
  get above(): FilesPlace {
    return new FilesPlace(this.account, dirname(this.path));
  }

  get isRoot(): boolean {
    return dirname(this.path) === this.path || this.account.root === this.path;
  }

  /** The place as a name in the folder around it, for what is put beside it and renamed. */
  openAbove(): { above: FilesEnd; name: ByteString } {
    return { above: this.above.open(), name: bytesOfText(this.name) };
  }

  /** The path of a place inside this one: empty for the same place, undefined for one outside. */
  pathTo(place: FilesPlace | string): string | undefined {
    const text = String(place);
    if (text === this.text) return '';
    const folder = this.text.endsWith('/') ? this.text : `${this.text}/`;
    return text.startsWith(folder) ? text.slice(folder.length) : undefined;
  }

  /** The same place without links on the way to it, where it is on this machine. */
  async real(): Promise<FilesPlace> {
    return this.isLocal ? localPlace(await realPath(this.path)) : this;
  }

  /** The folder in which a login lands; undefined on this machine. */
  async landing(): Promise<string | undefined> {
    return this.account.landing?.();
  }

  /** A path of the same account as it would be written. */
  inAccount(path: string): string {
    return this.account.name + path;
  }

  /** Starts connecting to the host where that takes long; resolves when only the host is waited for. */
  async connectAhead(): Promise<void> {
    await this.account.connectAhead?.();
  }
}

const thisMachine: FilesAccount = {
  name: '',
  isLocal: true,
  inClear: false,
  open: path => new LocalFiles(path),
  close: () => {},
};

/** A path without links, as far as something is there. */
async function realPath(path: string): Promise<string> {
  try {
    return await realpath(path);
  } catch {
    const above = dirname(path);
    return above === path ? path : join(await realPath(above), basename(path));
  }
}

/** A folder or file on this machine. */
export function localPlace(path: string): FilesPlace {
  return new FilesPlace(thisMachine, resolve(path));
}

/** The accounts of one move. Places in the same account share its connections. */
export class FilesAccounts {
  private readonly folder: string;
  private readonly trust: Trust;
  private readonly accounts = new Map<string, FilesAccount>();
  private most: number | undefined;
  private report: ((text: string) => void) | undefined;

  /** @param folder from which relative paths count */
  constructor(folder: string, trust: Trust) {
    this.folder = folder;
    this.trust = trust;
  }

  /**
   * A place as the sheet names it.
   * @param login what the sheet gives to get in
   * @param through puts something else before the account, such as a hatch
   * @throws UsageError for a protocol that is not known, or a URL without a path
   */
  place(
    place: string,
    login: SheetLogin = {},
    through?: (account: FilesAccount, path: string) => FilesAccount,
  ): FilesPlace {
    if (place.startsWith('file://')) return localPlace(fileURLToPath(place));
    const url = parsePlaceUrl(place);
    if (!url) return localPlace(resolve(this.folder, place));
    const shown = withoutCredentials(place);
    const protocol = protocolOf(place);
    if (!protocol || !url.authority) {
      throw new UsageError({
        doing: `Opening ${shown}`,
        cause: `files are reached in folders on this machine and by ${schemes.join(', ')}, not by ${url.scheme}://`,
        remedy: 'Name a folder (a mounted one will do), or an account that takes one of these',
      });
    }
    if (!url.path || (url.path === '/' && !protocol.rootIsFolder)) {
      throw new UsageError({
        doing: `Opening ${shown}`,
        cause: 'the address names no folder',
        remedy: `Write the folder’s whole path after the host, as in ${protocols[0]?.example}`,
      });
    }
    const straight = this.kept(protocol.account(url, login, this.trust));
    const path = join('/', decodeURIComponent(url.path)).replace(/(?!^)\/$/, '');
    if (!through) return new FilesPlace(straight, path);
    return new FilesPlace(this.kept(through(straight, path), `${straight.name}${path}`), path);
  }

  /** Uses no more connections than this at any host. */
  limitConnections(most: number): void {
    this.most = most;
    for (const account of this.accounts.values()) account.limitConnections?.(most);
  }

  /** Reports what the connections wait for. */
  onWaiting(report: (text: string) => void): void {
    this.report = report;
    for (const account of this.accounts.values()) account.onWaiting?.(report);
  }

  /** Ends every connection. */
  async close(): Promise<void> {
    // The last first: one may need another to leave.
    for (const account of [...this.accounts.values()].reverse()) await account.close();
    this.accounts.clear();
  }

  private kept(account: FilesAccount, key = account.name): FilesAccount {
    const known = this.accounts.get(key);
    if (known) return known;
    this.accounts.set(key, account);
    if (this.most !== undefined) account.limitConnections?.(this.most);
    if (this.report) account.onWaiting?.(this.report);
    return account;
  }
}

import type { PlaceUrl } from '../../core/files/place-url.js';
import type { Hatch } from '../hatch/hatch.js';
import type { SheetLogin } from '../ssh/login.js';
import type { SshSession } from '../ssh/session.js';
import type { Trust } from '../trust/trust.js';
import type { FilesEnd } from './files-end.js';

/** An account in which places for files are: on this machine, or at a host that a protocol reaches. */
export interface FilesAccount {
  /** What comes before the path in a place's text, such as `sftp://user@host`; empty for this machine. */
  readonly name: string;
  readonly isLocal: boolean;
  /** Whether the password and the files cross the network unencrypted. */
  readonly inClear: boolean;
  /** The SSH session, where the account is reached over SSH: databases can be reached through it. */
  readonly ssh?: SshSession;
  /** The hatch, where the files are reached through one: the database can be reached through it too. */
  readonly hatch?: Hatch;
  /** A folder that cannot be renamed, and beyond which nothing is put: the web root of a hatch. */
  readonly root?: string;
  /** Opens a folder. @param path absolute @param place the same as text, for messages */
  open(path: string, place: string): FilesEnd;
  /** The same without the hatch. */
  openStraight?(path: string, place: string): FilesEnd;
  /** The folder in which a login lands, where the host says so. */
  landing?(): Promise<string>;
  /** Starts connecting where that takes long; resolves when only the host is waited for. */
  connectAhead?(): Promise<void>;
  /** Uses no more connections than this. */
  limitConnections?(most: number): void;
  /** Reports what is waited for, such as a lost connection. */
  onWaiting?(report: (text: string) => void): void;
  close(): void | Promise<void>;
}

/** A protocol by which files are reached. A new one is one more file and one more line in `protocols.ts`. */
export interface FilesProtocol {
  /** The schemes of its URLs. */
  readonly schemes: readonly string[];
  /** A place as a person would write it, for questions and the documentation. */
  readonly example: string;
  /** Whether an account can be opened with a private key. */
  readonly takesKey: boolean;
  /** Whether `/` can be a site's folder: some servers show an account nothing but its own folder. */
  readonly rootIsFolder: boolean;
  /** Prepares an account; nothing is connected yet. */
  account(url: PlaceUrl, login: SheetLogin, trust: Trust): FilesAccount;
}

/** The name of an account at a host, without a password. */
export function accountName(
  scheme: string,
  { user, host, port }: { readonly user: string; readonly host: string; readonly port: number },
  usualPort: number,
): string {
  const name = host.includes(':') ? `[${host}]` : host;
  return `${scheme}://${encodeURIComponent(user)}@${name}${port === usualPort ? '' : `:${port}`}`;
}

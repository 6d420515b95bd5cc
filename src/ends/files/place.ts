import { basename, dirname, join, resolve } from 'node:path';
import { fileURLToPath } from 'node:url';
import { type ByteString, bytesOfText } from '../../core/bytes.js';
import { UsageError } from '../../core/errors.js';
import { type FtpLogin, FtpSession } from '../ftp/session.js';
import { HostKeys } from '../ssh/host-keys.js';
import { authorityOf, loginFor, type SheetLogin } from '../ssh/login.js';
import { SshSession } from '../ssh/session.js';
import type { FilesEnd } from './files-end.js';
import { FtpFiles } from './ftp.js';
import { LocalFiles } from './local.js';
import { SftpFiles } from './sftp.js';

type Session = SshSession | FtpSession;

/**
 * A place for files is a folder's absolute path, or an address such as `sftp://user@host:port/path` without a
 * password, whose login was made known by `placeOf`. Sessions are kept until `closeSessions`.
 */
const sessions = new Map<string, Session>();

/** The files at a place. A new protocol is one more case here. */
export function openFiles(place: string): FilesEnd {
  const far = remote(place);
  if (!far) return new LocalFiles(place);
  const session = sessions.get(far.account);
  if (session instanceof SshSession) return new SftpFiles(session, place, far.path);
  if (session instanceof FtpSession) return new FtpFiles(session, place, far.path);
  throw new Error(`the login for ${far.account} is not known`);
}

/** What stands at a place, as a name in the folder above it: for what is put beside it and renamed. */
export function openAbove(place: string): { above: FilesEnd; name: ByteString } {
  return { above: openFiles(placeAbove(place)), name: bytesOfText(placeName(place)) };
}

/** The place of something below another. */
export function placeBelow(place: string, path: string): string {
  const far = remote(place);
  return far ? `${far.account}${join(far.path, path)}` : join(place, path);
}

/** The path of a place below another: empty for the same, undefined where it is not below. */
export function restBelow(place: string, above: string): string | undefined {
  if (place === above) return '';
  const folder = above.endsWith('/') ? above : `${above}/`;
  return place.startsWith(folder) ? place.slice(folder.length) : undefined;
}

/** The place above another; the uppermost is above itself. */
export function placeAbove(place: string): string {
  const far = remote(place);
  return far ? `${far.account}${dirname(far.path)}` : dirname(place);
}

/** The last name of a place. */
export function placeName(place: string): string {
  return basename(remote(place)?.path ?? place);
}

/** Whether a place is on this machine. */
export function isLocal(place: string): boolean {
  return remote(place) === undefined;
}

/**
 * A place as the sheet names it, in the form that `openFiles` takes.
 * @param from the folder from which a relative path counts
 * @param login what the sheet says of getting in
 * @throws UsageError for a protocol that is not known, or an address without a path
 */
export function placeOf(
  place: string,
  from: string,
  login: SheetLogin = {},
  hostKeys = new HostKeys(from),
): string {
  if (place.startsWith('file://')) return fileURLToPath(place);
  const [, protocol, authority, path] = /^([a-z][a-z0-9+.-]+):\/\/([^/]*)(\/.*)?$/i.exec(place) ?? [];
  if (protocol === undefined) return resolve(from, place);
  const shown = place.replace(/\/\/[^@/]*@/, '//');
  const kind = protocol.toLowerCase();
  if (!['sftp', 'ftp', 'ftps'].includes(kind) || !authority) {
    throw new UsageError({
      doing: `Opening ${shown}`,
      cause: `this version reaches folders on this machine, sftp://, ftps:// and ftp://, not ${protocol}://`,
      remedy: 'Name a folder (a mounted one will do), or an account that takes one of these',
    });
  }
  if (!path || (path === '/' && kind === 'sftp')) {
    throw new UsageError({
      doing: `Opening ${shown}`,
      cause: 'it names no folder',
      remedy: 'Write the folder’s whole path after the host, as in sftp://user@host/home/user/htdocs',
    });
  }
  const session =
    kind === 'sftp'
      ? new SshSession(loginFor(authority, login), hostKeys)
      : new FtpSession(ftpLogin(authority, login, kind === 'ftps'));
  const { user, host, port } = session.login;
  const name = host.includes(':') ? `[${host}]` : host;
  const account = `${kind}://${encodeURIComponent(user)}@${name}${port === usualPort[kind] ? '' : `:${port}`}`;
  if (!sessions.has(account)) sessions.set(account, session);
  return `${account}${join('/', decodeURIComponent(path)).replace(/(?!^)\/$/, '')}`;
}

const usualPort: Readonly<Record<string, number>> = { sftp: 22, ftp: 21, ftps: 21 };

function ftpLogin(authority: string, sheet: SheetLogin, tls: boolean): FtpLogin {
  const { user, password, host, port } = authorityOf(authority);
  return {
    host,
    port: port ?? 21,
    user: user ?? 'anonymous',
    password: sheet.password ?? password ?? '',
    // The port 990 is that of TLS from the first byte on.
    tls: !tls ? 'none' : port === 990 ? 'implicit' : 'explicit',
    certificate: sheet['host-key'],
  };
}

/** The SSH account by which a place is reached; undefined for every other place. */
export function sessionOf(place: string): SshSession | undefined {
  const session = sessions.get(remote(place)?.account ?? '');
  return session instanceof SshSession ? session : undefined;
}

/** Begins to connect to the host of a place, where that takes long; ends when only the host is waited for. */
export async function connectAhead(place: string): Promise<void> {
  await sessionOf(place)?.connectAhead();
}

/** Keeps every session to so many connections at most. */
export function keepToConnections(most: number): void {
  for (const session of sessions.values()) if (session instanceof FtpSession) session.keepTo(most);
}

/** Ends every session. */
export function closeSessions(): void {
  for (const session of sessions.values()) session.close();
  sessions.clear();
}

/** Is told what sessions wait for. */
export function onWaiting(tell: (text: string) => void): void {
  for (const session of sessions.values()) session.tell = tell;
}

function remote(place: string): { account: string; path: string } | undefined {
  const [, account, path] = /^((?:sftp|ftps?):\/\/[^/]+)(\/.*)$/s.exec(place) ?? [];
  return account === undefined ? undefined : { account, path: path! };
}

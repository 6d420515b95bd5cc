import { basename, dirname, join, resolve } from 'node:path';
import { fileURLToPath } from 'node:url';
import { type ByteString, bytesOfText } from '../../core/bytes.js';
import { UsageError } from '../../core/errors.js';
import { HostKeys } from '../ssh/host-keys.js';
import { loginFor, type SheetLogin } from '../ssh/login.js';
import { SshSession } from '../ssh/session.js';
import type { FilesEnd } from './files-end.js';
import { LocalFiles } from './local.js';
import { SftpFiles } from './sftp.js';

/**
 * A place for files is a folder's absolute path, or `sftp://user@host:port/path` without a password, whose login was
 * made known by `knowLogin`. Sessions are kept for the life of the process, until `closeSessions`.
 */
const sessions = new Map<string, SshSession>();

/** The files at a place. A new protocol is one more case here. */
export function openFiles(place: string): FilesEnd {
  const far = remote(place);
  if (!far) return new LocalFiles(place);
  const session = sessions.get(far.authority);
  if (!session) throw new Error(`the login for ${far.authority} is not known`);
  return new SftpFiles(session, place, far.path);
}

/** What stands at a place, as a name in the folder above it: for what is put beside it and renamed. */
export function openAbove(place: string): { above: FilesEnd; name: ByteString } {
  return { above: openFiles(placeAbove(place)), name: bytesOfText(placeName(place)) };
}

/** The place of something below another. */
export function placeBelow(place: string, path: string): string {
  const far = remote(place);
  return far ? `sftp://${far.authority}${join(far.path, path)}` : join(place, path);
}

/** The place above another; the uppermost is above itself. */
export function placeAbove(place: string): string {
  const far = remote(place);
  return far ? `sftp://${far.authority}${dirname(far.path)}` : dirname(place);
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
  if (protocol.toLowerCase() !== 'sftp' || !authority) {
    throw new UsageError({
      doing: `Opening ${shown}`,
      cause: `this version reaches folders on this machine and sftp://, not ${protocol}://`,
      remedy: 'Name a folder (a mounted one will do), or an account that takes SFTP',
    });
  }
  if (!path || path === '/') {
    throw new UsageError({
      doing: `Opening ${shown}`,
      cause: 'it names no folder',
      remedy: 'Write the folder’s whole path after the host, as in sftp://user@host/home/user/htdocs',
    });
  }
  const known = loginFor(authority, login);
  const name = `${encodeURIComponent(known.user)}@${known.host.includes(':') ? `[${known.host}]` : known.host}${known.port === 22 ? '' : `:${known.port}`}`;
  if (!sessions.has(name)) sessions.set(name, new SshSession(known, hostKeys));
  return `sftp://${name}${join('/', decodeURIComponent(path)).replace(/(?!^)\/$/, '')}`;
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

function remote(place: string): { authority: string; path: string } | undefined {
  const [, authority, path] = /^sftp:\/\/([^/]+)(\/.*)$/s.exec(place) ?? [];
  return authority === undefined ? undefined : { authority, path: path! };
}

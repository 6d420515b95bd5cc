import { parsePlaceUrl } from '../../core/files/place-url.js';
import { ftpProtocol } from './ftp-protocol.js';
import type { FilesProtocol } from './protocol.js';
import { sftpProtocol } from './sftp-protocol.js';

/** Every protocol that reaches files at other hosts. */
export const protocols: readonly FilesProtocol[] = [sftpProtocol, ftpProtocol];

/** The schemes of all of them, as they begin a place: `sftp://`, … */
export const schemes: readonly string[] = protocols.flatMap(one => one.schemes.map(scheme => `${scheme}://`));

/** The protocol of a place; undefined for a folder on this machine and for a scheme that no protocol has. */
export function protocolOf(place: string | undefined): FilesProtocol | undefined {
  const url = place === undefined ? undefined : parsePlaceUrl(place);
  return url && protocols.find(one => one.schemes.includes(url.scheme));
}

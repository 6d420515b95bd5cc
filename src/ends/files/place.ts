import { basename, dirname, resolve } from 'node:path';
import { fileURLToPath } from 'node:url';
import { type ByteString, bytesOfText } from '../../core/bytes.js';
import { UsageError } from '../../core/errors.js';
import type { FilesEnd } from './files-end.js';
import { LocalFiles } from './local.js';

/** The files at a place. A new protocol is one more case here. */
export function openFiles(place: string): FilesEnd {
  return new LocalFiles(place);
}

/** What stands at a place, as a name in the folder above it: for what is put beside it and renamed. */
export function openAbove(place: string): { above: FilesEnd; name: ByteString } {
  return { above: openFiles(dirname(place)), name: bytesOfText(basename(place)) };
}

/**
 * The path of a place that is a folder on this machine.
 * @param from the folder from which a relative path counts
 * @throws UsageError for a place that is reached by a protocol
 */
export function localFolder(place: string, from: string): string {
  if (place.startsWith('file://')) return fileURLToPath(place);
  const protocol = /^([a-z][a-z0-9+.-]+):\/\//i.exec(place)?.[1];
  if (protocol === undefined) return resolve(from, place);
  throw new UsageError({
    doing: `Opening ${place.replace(/\/\/[^@/]*@/, '//')}`,
    cause: `this version reaches folders on this machine, not ${protocol}://`,
    remedy: 'Name a folder (a mounted one will do), and carry the files there first',
  });
}

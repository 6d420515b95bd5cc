import { resolve } from 'node:path';
import { fileURLToPath } from 'node:url';
import { UsageError } from '../../core/errors.js';

/**
 * The path of a place that is a folder on this machine. A new protocol is one more case here.
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

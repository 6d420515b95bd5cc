import { asBytes, bytesOfText } from '../bytes.js';
import { staysInside } from '../files/entries.js';

/** The move folder of a site as it is kept at a store: one for each fence, the largest counts. */
export interface KeptName {
  readonly site: string;
  readonly fence: number;
}

/** The folder at a store. */
export function keptFolderName({ site, fence }: KeptName): string {
  return `${site}.${fence}`;
}

/** Undefined for a folder that is none of these. */
export function readKeptFolderName(name: string): KeptName | undefined {
  const [, site, fence] = /^(\w[\w.-]*)\.(\d{1,15})$/.exec(name) ?? [];
  return site === undefined ? undefined : { site, fence: Number(fence) };
}

/** Of a folder, what another machine does not need, or has of its own. */
const left = new Set([
  'crate',
  'crate.incoming',
  'collect',
  'fetch',
  'store',
  'keep',
  '.lock',
  '.env',
  'move.yaml',
]);

/** Whether a file of a move folder is kept. @param path from the move folder */
export function isKept(path: string): boolean {
  return !left.has(path.split('/')[0]!) && !path.endsWith('.partial');
}

/** The name of a file at a store, where folders hold no folders. */
export function keptFileName(path: string): string {
  return `${encodeURIComponent(path)}.age`;
}

/** The path of a file that was kept; undefined for a name that leads elsewhere, or to what is never kept. */
export function readKeptFileName(name: string): string | undefined {
  if (!name.endsWith('.age') || name === keptKey) return undefined;
  let path: string;
  try {
    path = decodeURIComponent(name.slice(0, -'.age'.length));
  } catch {
    return undefined;
  }
  return path !== '' && staysInside(asBytes(bytesOfText(path))) && isKept(path) ? path : undefined;
}

/** The key that opens the files beside it, sealed with the passphrase. */
export const keptKey = 'key.age';

/** What comes last of the first copy that a worker makes: without it, an earlier worker's is the one that counts. */
export const keptWhole = 'whole';

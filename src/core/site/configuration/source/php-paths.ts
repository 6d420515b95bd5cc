import { asBytes, type ByteString } from '../../../bytes.js';

/** A placeholder for the site's folder in values; its real path is not known, and not needed. */
const root = '\0site';

/** A path below the site's folder (or, with `../`, above it) as a value of PHP source. */
export function valueOfPath(path: string): ByteString {
  return asBytes(path === '' ? root : `${root}/${path}`);
}

/** Whether a value depends on where the site's folder is, and so moves along. */
export function movesAlong(value: ByteString): boolean {
  return value.includes(root);
}

/**
 * The path, relative to the site's folder, of a file that an include or a test names.
 * @param from the file that names it; a bare relative path counts from its folder
 * @returns undefined for an absolute path, an address, or what leads more than one folder above the site
 */
export function pathOfValue(value: ByteString, from: string): string | undefined {
  if (value.startsWith(root)) return normalised(value.slice(root.length));
  if (/^(?:\/|[a-z][a-z0-9+.-]*:)/i.test(value) || value.includes('\0')) return undefined;
  return normalised(`${folderOf(from)}/${value}`);
}

/** The folder of a path; empty for the site's own. */
export function folderOf(path: string): string {
  const slash = path.lastIndexOf('/');
  return slash < 0 ? '' : path.slice(0, slash);
}

function normalised(path: string): string | undefined {
  const parts: string[] = [];
  for (const part of path.split('/')) {
    if (part === '' || part === '.') continue;
    if (part === '..' && parts.length > 0 && parts.at(-1) !== '..') parts.pop();
    else parts.push(part);
  }
  return parts.filter(part => part === '..').length > 1 ? undefined : parts.join('/');
}

import { linkStaysInside, staysInside } from './entries.js';

/** How the name of a move's archive begins; `.age` and the number of a part may follow. */
export function archiveName(move: string): string {
  return `${move}.crate.tar`;
}

/** One entry of an archive, as its header shows it. */
export interface ArchiveEntry {
  /** Bytes held one a character. */
  readonly name: string;
  readonly type: string;
  /** Where a link points. */
  readonly to?: string | undefined;
}

/**
 * Watches over the names in an archive that comes from elsewhere: nothing of it may be written outside of the folder
 * that it is unpacked to, nor over another part of it.
 */
export class ArchiveNames {
  private readonly seen = new Map<string, string>();
  private readonly links = new Set<string>();
  private readonly folders = new Set<string>();

  /** Why an entry must not be unpacked, or undefined where it may. Entries are to be given in their order. */
  refuses({ name, type, to }: ArchiveEntry): string | undefined {
    const path = name.replace(/\/$/, '');
    if (path.startsWith('/') || /^[A-Za-z]:/.test(path)) return 'its path is absolute';
    if (!staysInside(path)) return 'its path leads out of the folder';
    if (path.includes('\\')) return 'its path has a backslash, which leads elsewhere on some systems';
    if (!['file', 'directory', 'symlink'].includes(type))
      return `it is neither a file, a folder nor a symbolic link (${type})`;
    if (type === 'symlink' && !linkStaysInside(path, to ?? '/'))
      return 'it is a link that leads out of the folder';
    const above = path.split('/').slice(0, -1);
    for (let depth = 1; depth <= above.length; depth++) {
      if (this.links.has(above.slice(0, depth).join('/'))) return 'it would be written through a link';
    }
    const folded = foldedName(path);
    const other = this.seen.get(folded);
    if (other === path && !(type === 'directory' && this.folders.has(path))) return 'it is there twice';
    if (other !== undefined && other !== path)
      return `its name differs from that of ${other} only in letter case`;
    this.seen.set(folded, path);
    if (type === 'directory') this.folders.add(path);
    if (type === 'symlink') this.links.add(path);
    return undefined;
  }
}

/** A name as a system sees it that does not tell letter case, or ways of writing a letter with its accent. */
export function foldedName(path: string): string {
  const text = Buffer.from(path, 'latin1').toString();
  return text.normalize('NFC').toLowerCase();
}

import { type ByteString, bytesOfText, textOf } from '../bytes.js';
import type { Finding } from '../findings.js';
import { foldedName } from './archive-names.js';
import type { FileEntry } from './entries.js';

/** Most file systems take names of so many bytes, and paths of so many. */
const longestName = 255;
const longestPath = 1024;
/** What Windows refuses in a name: https://learn.microsoft.com/windows/win32/fileio/naming-a-file */
const refusedByWindows = /[<>:"\\|?*\x01-\x1f]|[. ]$|^(?:con|prn|aux|nul|com[1-9]|lpt[1-9])(?:\.|$)/i;

/** Findings on names that may not arrive: those that differ only in letter case, are too long, or that Windows refuses. */
export function nameFindings(place: string, entries: readonly FileEntry[]): Finding[] {
  const byFolded = new Map<string, ByteString[]>();
  const long: ByteString[] = [];
  const windows: ByteString[] = [];
  for (const { path } of entries) {
    const folded = foldedName(path);
    byFolded.set(folded, [...(byFolded.get(folded) ?? []), path]);
    const name = path.slice(path.lastIndexOf('/') + 1);
    if (name.length > longestName || path.length > longestPath) long.push(path);
    // A name that is not UTF-8 is told by itself.
    else if (bytesOfText(textOf(path)) === path && refusedByWindows.test(textOf(name as ByteString)))
      windows.push(path);
  }
  const clashing = [...byFolded.values()].filter(paths => paths.length > 1);
  const shown = (paths: readonly ByteString[]) => paths.slice(0, 3).map(textOf).join(', ');
  const told = (
    level: Finding['level'],
    code: Finding['code'],
    paths: readonly ByteString[],
    what: string,
    remedy: string,
  ): Finding[] =>
    paths.length === 0 ? [] : [{ level, code, place: `${place}/${textOf(paths[0]!)}`, what, remedy }];
  return [
    ...told(
      'warn',
      'names-clash',
      clashing[0] ?? [],
      `${clashing.length === 1 ? 'Names differ' : `In ${clashing.length} places names differ`} only in letter case (${shown(clashing[0] ?? [])}); a host that does not tell case keeps one of them`,
      'Rename one of them at the old site, if the new host does not tell letter case',
    ),
    ...told(
      'warn',
      'name-too-long',
      long,
      `${long.length} ${long.length === 1 ? 'name is' : 'names are'} longer than other file systems take`,
      'Shorten them at the old site, or leave them out with take.files.without',
    ),
    ...told(
      'note',
      'name-refused-by-windows',
      windows,
      `${windows.length} ${windows.length === 1 ? 'name' : 'names'} would be refused by a host that runs Windows (${shown(windows)})`,
      'Nothing needs to be done where the new host runs anything else',
    ),
  ];
}

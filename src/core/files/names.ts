import { type ByteString, bytesOfText, textOf } from '../bytes.js';
import { type Finding, finding } from '../findings/findings.js';
import { foldedName } from './archive-names.js';
import type { FileEntry } from './entries.js';
import { HashesSeen, hashOf } from './hashes-seen.js';

/** Most file systems take names of so many bytes, and paths of so many. */
const longestName = 255;
const longestPath = 1024;
/** What Windows refuses in a name: https://learn.microsoft.com/windows/win32/fileio/naming-a-file */
const refusedByWindows = /[<>:"\\|?*\x01-\x1f]|[. ]$|^(?:con|prn|aux|nul|com[1-9]|lpt[1-9])(?:\.|$)/i;

/** What is reported about names of one kind: how many there are, and the first. */
class Names {
  count = 0;
  readonly first: ByteString[] = [];

  add(path: ByteString): void {
    this.count++;
    if (this.first.length < 3) this.first.push(path);
  }
}

/**
 * Looks for names that may not arrive: those that differ only in letter case, are too long, or that Windows refuses.
 * Holds little of them, whatever the tree.
 */
export class NameLook {
  private readonly long = new Names();
  private readonly windows = new Names();
  private readonly folded = new HashesSeen();
  private readonly suspects = new Set<number>();

  add({ path }: FileEntry): void {
    const again = this.folded.addsAgain(foldedName(path));
    if (again !== undefined) this.suspects.add(again);
    const name = path.slice(path.lastIndexOf('/') + 1);
    if (name.length > longestName || path.length > longestPath) this.long.add(path);
    // A name that is not UTF-8 is reported on its own.
    else if (bytesOfText(textOf(path)) === path && refusedByWindows.test(textOf(name as ByteString)))
      this.windows.add(path);
  }

  /** @param entries all that were added, once more; they are asked for only where some may clash */
  async findings(place: string, entries: () => AsyncIterable<FileEntry>): Promise<Finding[]> {
    const clashing = this.suspects.size > 0 ? await this.clashes(entries()) : [];
    return nameFindings(place, clashing, this.long, this.windows);
  }

  private async clashes(entries: AsyncIterable<FileEntry>): Promise<ByteString[][]> {
    const byFolded = new Map<string, ByteString[]>();
    for await (const { path } of entries) {
      const folded = foldedName(path);
      if (this.suspects.has(hashOf(folded))) byFolded.set(folded, [...(byFolded.get(folded) ?? []), path]);
    }
    return [...byFolded.values()].filter(paths => paths.length > 1);
  }
}

function nameFindings(
  place: string,
  clashing: readonly (readonly ByteString[])[],
  long: Names,
  windows: Names,
): Finding[] {
  const shown = (paths: readonly ByteString[]) => paths.slice(0, 3).map(textOf).join(', ');
  const several = (
    level: Finding['level'],
    code: Finding['code'],
    paths: readonly ByteString[],
    what: string,
    remedy: string,
  ): Finding[] =>
    paths.length === 0
      ? []
      : [finding({ level, code, place: `${place}/${textOf(paths[0]!)}`, what, remedy })];
  return [
    ...several(
      'warn',
      'names-clash',
      clashing[0] ?? [],
      `${clashing.length === 1 ? 'Names differ' : `In ${clashing.length} places names differ`} only in letter case (${shown(clashing[0] ?? [])}); a host that ignores letter case keeps one of them`,
      'Rename one of them at the old site, if the new host ignores letter case',
    ),
    ...several(
      'warn',
      'name-too-long',
      long.first,
      `${long.count} ${long.count === 1 ? 'name is' : 'names are'} longer than other file systems take`,
      'Shorten them at the old site, or leave them out with take.files.without',
    ),
    ...several(
      'note',
      'name-refused-by-windows',
      windows.first,
      `${windows.count} ${windows.count === 1 ? 'name' : 'names'} would be refused by a host that runs Windows (${shown(windows.first)})`,
      'Nothing needs to be done where the new host runs anything else',
    ),
  ];
}

import { type ByteString, textOf } from '../../core/bytes.js';
import type { FileEntry, ListedEntry } from '../../core/files/entries.js';
import { type Finding, finding } from '../../core/findings/findings.js';
import { counted } from '../../core/text/numbers.js';

/** What a host lists and nobody can take, to be reported. */
export class NotTaken {
  private readonly specials = new Set<ByteString>();
  private readonly elsewhere = new Set<ByteString>();
  private readonly unreadable: ByteString[] = [];

  /** Takes what is no part of a tree. A listing that was interrupted may report it twice. */
  add({ path, type }: ListedEntry): void {
    (type === 'special' ? this.specials : this.elsewhere).add(path);
  }

  /** Takes what has a name that does not come through. */
  addUnreadable({ path }: FileEntry): void {
    this.unreadable.push(path);
  }

  findings(place: string): Finding[] {
    return [
      ...this.unreadable.map(path => unreadableFinding(place, path)),
      ...specialFindings(place, [...this.specials]),
      ...elsewhereFindings(place, [...this.elsewhere]),
    ];
  }
}

function unreadableFinding(place: string, path: ByteString): Finding {
  return finding({
    level: 'warn',
    code: 'name-not-readable',
    place: `${place}/${textOf(path)}`,
    what: /[\r\n]/.test(path)
      ? 'Its name contains a line end and cannot be sent over this protocol, so it is not taken'
      : 'Its name is not UTF-8 and cannot be sent over SFTP, so it is not taken',
    remedy: 'Rename it at the old host, or take it in an archive',
  });
}

function specialFindings(place: string, paths: readonly ByteString[]): Finding[] {
  if (paths[0] === undefined) return [];
  return [
    finding({
      level: 'warn',
      code: 'special-file',
      place: `${place}/${textOf(paths[0])}`,
      what: `${counted(paths.length, 'socket, named pipe or device is', 'sockets, named pipes or devices are')} not taken`,
      remedy: 'No site needs them in its folder; a program that does makes them again',
    }),
  ];
}

function elsewhereFindings(place: string, names: readonly ByteString[]): Finding[] {
  if (names[0] === undefined) return [];
  const shown = names.slice(0, 3).map(name => JSON.stringify(textOf(name)));
  return [
    finding({
      level: 'warn',
      code: 'names-lead-elsewhere',
      place,
      what: `The host lists ${counted(names.length, 'name that leads', 'names that lead')} out of the folder, which no file can have (${shown.join(', ')}); they are not taken`,
      remedy: 'Do not trust this host; ask who runs it, and compare what was taken with a backup',
    }),
  ];
}

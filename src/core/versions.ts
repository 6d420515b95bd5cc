import { compareVersions as compare } from 'compare-versions';

/** Compares versions as servers and programs write them: negative where the first is the earlier. */
export function compareVersions(a: string, b: string): number {
  return compare(numbersOf(a), numbersOf(b));
}

/** The version without words: `8.2.36` of `8.2.36-1~deb12u1`. */
function numbersOf(version: string): string {
  return /\d+(?:\.\d+){0,3}/.exec(version)?.[0] ?? '0';
}

/** A database server's kind and version, from what it calls itself: `10.11.6-MariaDB-0+deb12u1` or `8.0.36`. */
export function databaseVersion(said: string): { kind: 'mariadb' | 'mysql'; version: string } {
  // Servers in replication call themselves 5.5.5-10.x for the sake of old clients.
  const version = /(?:^5\.5\.5-)?(\d+(?:\.\d+)+)/.exec(said)?.[1] ?? said;
  return { kind: /mariadb/i.test(said) ? 'mariadb' : 'mysql', version };
}

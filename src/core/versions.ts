/** Compares versions by their numbers, part by part: negative where the first is the earlier. */
export function compareVersions(a: string, b: string): number {
  const [left, right] = [a, b].map(version => (version.match(/\d+/g) ?? []).slice(0, 4).map(Number));
  for (let i = 0; i < Math.max(left!.length, right!.length); i++) {
    const difference = (left![i] ?? 0) - (right![i] ?? 0);
    if (difference !== 0) return difference;
  }
  return 0;
}

/** A database server's kind and version, from what it calls itself: `10.11.6-MariaDB-0+deb12u1` or `8.0.36`. */
export function databaseVersion(said: string): { kind: 'mariadb' | 'mysql'; version: string } {
  // Servers in replication call themselves 5.5.5-10.x for the sake of old clients.
  const version = /(?:^5\.5\.5-)?(\d+(?:\.\d+)+)/.exec(said)?.[1] ?? said;
  return { kind: /mariadb/i.test(said) ? 'mariadb' : 'mysql', version };
}

import { parsePlaceUrl } from '../files/place-url.js';

/**
 * The hosts that the move of a sheet works on, as far as the sheet names them; none for folders on this machine. A host of this
 * machine's own has its port in its name.
 * @param sheet as it is written
 */
export function hostsOf(sheet: unknown): string[] {
  const hosts = new Set<string>();
  for (const end of ['old', 'new']) {
    const { files, database } =
      (sheet as Record<string, { files?: unknown; database?: unknown }>)?.[end] ?? {};
    add(hosts, files);
    const { server, through } = (database ?? {}) as { server?: unknown; through?: unknown };
    if (through === undefined) add(hosts, server);
  }
  return [...hosts];
}

function add(hosts: Set<string>, place: unknown): void {
  const url = typeof place === 'string' ? parsePlaceUrl(place) : undefined;
  const [, host, port] = /^(?:.*@)?(\[[^\]]*\]|[^:@]*)(?::(\d+))?$/.exec(url?.authority ?? '') ?? [];
  if (!host) return;
  const isHere = /^(?:127\.|localhost$|\[::1\]$)/i.test(host);
  hosts.add(isHere && port !== undefined ? `${host}:${port}` : host.toLowerCase());
}

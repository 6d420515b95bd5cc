/** Where a DNS server listens. */
export interface DnsServer {
  /** An IP address. */
  readonly host: string;
  readonly port: number;
}

/** An IP address, with `:port` where it is not 53 and brackets around IPv6 then; also as a `dns://` URL. */
export function serverOf(written: string): DnsServer {
  const bare = written.replace(/^dns:\/\//, '').replace(/\/$/, '');
  const bracketed = /^\[([^\]]+)\](?::(\d+))?$/.exec(bare);
  const dotted = /^([^:]+)(?::(\d+))?$/.exec(bare);
  const [, host, port] = bracketed ?? dotted ?? [undefined, bare, undefined];
  return { host: host!, port: Number(port ?? 53) };
}

/** A server as people write it. */
export function serverText({ host, port }: DnsServer): string {
  if (port === 53) return host;
  return host.includes(':') ? `[${host}]:${port}` : `${host}:${port}`;
}

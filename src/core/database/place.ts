/** Where a database server listens. */
export interface ServerPlace {
  readonly host: string;
  readonly port: number;
  /** The path of its socket, where that is named instead of a port. */
  readonly socket?: string | undefined;
}

/** A database, and as whom it is opened. */
export interface DatabasePlace extends ServerPlace {
  readonly user: string;
  readonly password: string;
  /** Empty for none: the server alone. */
  readonly name: string;
  /** How the line to it is protected; left out, by TLS with a certificate that is verified, beyond this machine. */
  readonly tls?: TlsWish | undefined;
}

/** `unverified`: by TLS, whoever the server is; `off`: not at all. */
const tlsWishes = ['verify', 'unverified', 'off'] as const;
type TlsWish = (typeof tlsWishes)[number];

/** Whether a host is this machine. */
function isThisMachine(host: string): boolean {
  return host === '' || host === 'localhost' || host === '::1' || /^127(?:\.\d{1,3}){3}$/.test(host);
}

/**
 * How the line to a server is protected: it does not leave this machine, goes through an SSH connection, by TLS with a
 * certificate that was verified, by TLS with one that was not, or not at all.
 */
export type Line = 'here' | 'tunnel' | 'verified' | 'unverified' | 'clear';

export function lineTo(place: DatabasePlace, isTunnelled: boolean): Line {
  if (isTunnelled) return 'tunnel';
  if (place.tls === 'off') return isThisMachine(place.host) ? 'here' : 'clear';
  if (place.tls !== undefined) return place.tls === 'verify' ? 'verified' : 'unverified';
  return place.socket !== undefined || isThisMachine(place.host) ? 'here' : 'verified';
}

const usualPort = 3306;

/**
 * Reads `mysql://user@host:port/name`; a socket is given as `?socket=/path`, how the line is protected as `?tls=unverified`
 * (see `TlsWish`), a password before the `@`.
 * @returns undefined where it is no such address
 */
export function readDatabaseUrl(text: string): (DatabasePlace & { password: string }) | undefined {
  if (!/^mysql:\/\//.test(text) || !URL.canParse(text)) return undefined;
  const url = new URL(text);
  const tls = url.searchParams.get('tls') ?? undefined;
  if (tls !== undefined && !isTlsWish(tls)) return undefined;
  return {
    ...(tls === undefined ? {} : { tls }),
    host: url.hostname.replace(/^\[|\]$/g, '') || 'localhost',
    port: url.port === '' ? usualPort : Number(url.port),
    socket: url.searchParams.get('socket') ?? undefined,
    user: decodeURIComponent(url.username),
    password: decodeURIComponent(url.password),
    name: decodeURIComponent(url.pathname.slice(1)),
  };
}

function isTlsWish(text: string): text is TlsWish {
  return (tlsWishes as readonly string[]).includes(text);
}

/** What a site's configuration means by its host: `host`, `host:3307`, `[::1]:3307`, `localhost:/run/mysqld.sock`. */
export function serverNamed(host: string, port?: string): ServerPlace {
  const [, bracketed, plain, rest] = /^(?:\[([^\]]+)\]|([^:]*))(?::(.*))?$/.exec(host) ?? [];
  // An IPv6 address without brackets has several colons.
  if (bracketed === undefined && rest?.includes(':')) return { host, port: Number(port || usualPort) };
  const name = bracketed ?? (plain || 'localhost');
  if (rest?.startsWith('/')) return { host: name, port: usualPort, socket: rest };
  return { host: name, port: Number(rest || port || usualPort) };
}

/** A database as it may be shown: without its password. */
export function shownDatabase({ host, port, socket, user, name }: DatabasePlace): string {
  const authority = host.includes(':') ? `[${host}]` : host;
  const at =
    socket === undefined ? `${authority}${port === usualPort ? '' : `:${port}`}` : `${host}:${socket}`;
  return `${name || 'the server'} as ${user} at ${at}`;
}

/** Which database a place is, whoever opens it. */
export function databaseIdentity(place: DatabasePlace): string {
  const { host, port, socket, name } = place;
  return `${name} at ${socket === undefined ? `${host.toLowerCase()}:${port}` : `${host}:${socket}`}`;
}

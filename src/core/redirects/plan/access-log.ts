/** A request that a web server logged. */
export interface LoggedRequest {
  /** The host asked, where the log names it. */
  readonly host: string | undefined;
  readonly method: string;
  /** As it was sent, one character a byte. */
  readonly uri: string;
  readonly status: number;
  /** What the client calls itself; undefined where the log has no such field. */
  readonly agent: string | undefined;
  /** When, in milliseconds since 1970; undefined where it cannot be read. */
  readonly at: number | undefined;
}

const quoted = String.raw`"((?:[^"\\]|\\.)*)"`;
const line = new RegExp(
  String.raw`^([^\["]*) \[([^\]]*)\] ${quoted} (\d{3}) \S+(?: ${quoted} ${quoted})?`,
  's',
);

/**
 * Reads a line of an access log in the common or the combined format (https://httpd.apache.org/docs/2.4/logs.html), with or without the
 * host before it.
 * @param text one character a byte
 * @returns undefined for a line of another kind
 */
export function readLogLine(text: string): LoggedRequest | undefined {
  const found = line.exec(text);
  if (!found) return undefined;
  const [, client, time, request, status, , agent] = found;
  const [, method, uri] = /^([A-Z]+) (\S.*?)(?: HTTP\/[\d.]+)?$/s.exec(unescaped(request!)) ?? [];
  if (method === undefined || uri === undefined) return undefined;
  return {
    host: hostIn(client!),
    method,
    uri,
    status: Number(status),
    agent: agent === undefined ? undefined : unescaped(agent),
    at: timeOf(time!),
  };
}

/** The host before the client, its identity and its user, where the log has it. */
function hostIn(client: string): string | undefined {
  const [first, second, third] = client.split(' ');
  const [, host, port] = /^([\w-]+(?:\.[\w-]+)+)(:\d+)?$/.exec(first!) ?? [];
  const isFour = third === '-' && second !== '-';
  return host !== undefined && (port !== undefined || isFour) ? host : undefined;
}

/** Servers write what would end the field, and bytes beyond ASCII, after a backslash. */
function unescaped(text: string): string {
  return text.replace(/\\(?:x([0-9a-f]{2})|(.))/gis, (_, digits, char) =>
    digits ? String.fromCharCode(Number.parseInt(digits, 16)) : char,
  );
}

/** `05/Dec/2026:21:14:03 +0100` */
function timeOf(text: string): number | undefined {
  const found = /^(\d+)\/(\w+)\/(\d+):(\d+:\d+:\d+) ([+-]\d\d)(\d\d)$/.exec(text);
  if (!found) return undefined;
  const [, day, month, year, time, hours, minutes] = found;
  const at = Date.parse(`${day} ${month} ${year} ${time} GMT${hours}${minutes}`);
  return Number.isNaN(at) ? undefined : at;
}

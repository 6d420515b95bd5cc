import { createHash, createHmac } from 'node:crypto';

/** What a file of known hosts says of a key. */
export type Knowledge = 'known' | 'changed' | 'revoked' | 'unknown';

/**
 * Looks a host's key up in the text of a `known_hosts` file (sshd(8), "SSH_KNOWN_HOSTS FILE FORMAT"): plain and
 * hashed names, patterns, ports in brackets, and the markers `@revoked` and `@cert-authority` (which is skipped).
 * @param key the public key as it comes over the wire
 */
export function lookUpHost(text: string, host: string, port: number, key: Buffer): Knowledge {
  const name = port === 22 ? host.toLowerCase() : `[${host.toLowerCase()}]:${port}`;
  const type = typeOf(key);
  let found: Knowledge = 'unknown';
  for (const line of text.split('\n')) {
    const words = line.trim().split(/\s+/);
    const marker = words[0]?.startsWith('@') ? words.shift() : undefined;
    const [hosts, kind, encoded] = words;
    if (!hosts || hosts.startsWith('#') || !encoded || marker === '@cert-authority') continue;
    if (!namesHost(hosts, name)) continue;
    const same = Buffer.from(encoded, 'base64').equals(key);
    if (marker === '@revoked') {
      if (same) return 'revoked';
    } else if (same) found = 'known';
    else if (kind === type && found === 'unknown') found = 'changed';
  }
  return found;
}

/** The keys that a file knows of a host: their kinds, one of which is asked for, and their fingerprints. */
export function keysOf(
  text: string,
  host: string,
  port: number,
): { readonly kind: string; readonly fingerprint: string }[] {
  const name = port === 22 ? host.toLowerCase() : `[${host.toLowerCase()}]:${port}`;
  const keys: { kind: string; fingerprint: string }[] = [];
  for (const line of text.split('\n')) {
    const [hosts, kind, encoded = ''] = line.trim().split(/\s+/);
    if (hosts && kind && !/^[#@]/.test(hosts) && namesHost(hosts, name))
      keys.push({ kind, fingerprint: fingerprintOf(Buffer.from(encoded, 'base64')) });
  }
  return keys;
}

/** A key's fingerprint as every SSH program shows it. */
export function fingerprintOf(key: Buffer): string {
  return `SHA256:${createHash('sha256').update(key).digest('base64').replace(/=+$/, '')}`;
}

/** The line by which a key becomes known. */
export function hostLine(host: string, port: number, key: Buffer): string {
  const name = port === 22 ? host.toLowerCase() : `[${host.toLowerCase()}]:${port}`;
  return `${name} ${typeOf(key)} ${key.toString('base64')}`;
}

/** The kind of a key, which its wire format begins with (RFC 4253, section 6.6). */
function typeOf(key: Buffer): string {
  return key.toString('latin1', 4, 4 + key.readUInt32BE(0));
}

function namesHost(hosts: string, name: string): boolean {
  if (hosts.startsWith('|1|')) {
    const [, , salt, hash] = hosts.split('|');
    const mac = createHmac('sha1', Buffer.from(salt ?? '', 'base64')).update(name);
    return mac.digest('base64') === hash;
  }
  let matched = false;
  for (const pattern of hosts.toLowerCase().split(',')) {
    const negated = pattern.startsWith('!');
    const body = (negated ? pattern.slice(1) : pattern).replace(/[.*+?^${}()|[\]\\]/g, part =>
      part === '*' ? '.*' : part === '?' ? '.' : `\\${part}`,
    );
    if (!new RegExp(`^${body}$`).test(name)) continue;
    if (negated) return false;
    matched = true;
  }
  return matched;
}

/** An IPv4 or IPv6 address as its bytes. @throws an Error for what is none */
export function addressFromText(text: string, version: 4 | 6): Buffer {
  const parts = version === 4 ? ipv4Of(text) : ipv6Of(text);
  if (!parts) throw new Error(`${JSON.stringify(text)} is no IPv${version} address`);
  return Buffer.from(parts);
}

function ipv4Of(text: string): number[] | undefined {
  const parts = /^(\d{1,3})\.(\d{1,3})\.(\d{1,3})\.(\d{1,3})$/.exec(text)?.slice(1).map(Number);
  return parts?.every(part => part < 256) ? parts : undefined;
}

/** RFC 4291, section 2.2. */
function ipv6Of(text: string): number[] | undefined {
  const mapped = /^(.*:)(\d+\.\d+\.\d+\.\d+)$/.exec(text);
  const last = mapped && ipv4Of(mapped[2]!);
  if (mapped && !last) return undefined;
  const whole = last ? `${mapped[1]}${hexPair(last[0]!, last[1]!)}:${hexPair(last[2]!, last[3]!)}` : text;
  const [head, tail, ...more] = whole.split('::').map(part => (part === '' ? [] : part.split(':')));
  if (!head || more.length > 0) return undefined;
  const zeros = tail ? 8 - head.length - tail.length : 0;
  if (tail ? zeros < 1 : head.length !== 8) return undefined;
  const groups = [...head, ...Array.from({ length: zeros }, () => '0'), ...(tail ?? [])];
  if (!groups.every(group => /^[\da-f]{1,4}$/i.test(group))) return undefined;
  return groups.flatMap(group => [Number.parseInt(group, 16) >> 8, Number.parseInt(group, 16) & 0xff]);
}

function hexPair(high: number, low: number): string {
  return (high * 256 + low).toString(16);
}

/** An address of 4 or 16 bytes as text, the latter in the form of RFC 5952. */
export function addressToText(data: Buffer): string {
  if (data.length === 4) return data.join('.');
  const groups = Array.from({ length: 8 }, (_, i) => data.readUInt16BE(i * 2).toString(16)).join(':');
  const runs = [...groups.matchAll(/(?:^|(?<=:))0(?::0)+(?=:|$)/g)];
  const longest = runs.reduce<string>((best, [run]) => (run.length > best.length ? run : best), '');
  if (longest === '') return groups;
  const at = runs.find(([run]) => run === longest)!.index;
  const [before, after] = [groups.slice(0, at), groups.slice(at + longest.length)];
  return `${before.replace(/:$/, '')}::${after.replace(/^:/, '')}`;
}

/** An address of either kind, normalised; undefined for what is none. */
export function ipAddress(text: string): { version: 4 | 6; text: string; data: Buffer } | undefined {
  for (const version of [4, 6] as const) {
    try {
      const data = addressFromText(text, version);
      return { version, text: addressToText(data), data };
    } catch {
      // It may be one of the other kind.
    }
  }
  return undefined;
}

/** Whether an address is set aside for examples, so that nobody has it (RFC 5737, RFC 3849). */
export function isExampleAddress(text: string): boolean {
  return /^(?:192\.0\.2\.|198\.51\.100\.|203\.0\.113\.|2001:db8:)/i.test(text);
}

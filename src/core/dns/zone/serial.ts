import { nameFromWire } from '../records/name.js';

/** The parts of an SOA record's data that follow its two names (RFC 1035, section 3.3.13). */
function numbersAt(data: Buffer): number {
  return nameFromWire(data, nameFromWire(data, 0).end).end;
}

export function serialOf(soa: Buffer): number {
  return soa.readUInt32BE(numbersAt(soa));
}

/** For how long a resolver keeps that something is not there, in seconds (RFC 2308, section 4). */
export function negativeTtlOf(soa: Buffer): number {
  return soa.readUInt32BE(numbersAt(soa) + 16);
}

/** How often secondaries ask for a newer zone, and after how long they give up; in seconds. */
export function refreshOf(soa: Buffer): { readonly refresh: number; readonly expire: number } {
  const at = numbersAt(soa);
  return { refresh: soa.readUInt32BE(at + 4), expire: soa.readUInt32BE(at + 12) };
}

export function withSerial(soa: Buffer, serial: number): Buffer {
  const data = Buffer.from(soa);
  data.writeUInt32BE(serial, numbersAt(soa));
  return data;
}

/** Whether a serial comes after another one, which may be beyond the end of the numbers (RFC 1982, section 3.2). */
export function isNewer(serial: number, than: number): boolean {
  return serial !== than && (serial - than) >>> 0 < 0x80000000;
}

/**
 * The serial after one: where it is a date with two digits, as many are, that of today.
 * @param now milliseconds since 1970
 */
export function nextSerial(serial: number, now: number): number {
  const next = (serial + 1) >>> 0 || 1;
  if (!/^(?:19|20)\d\d(?:0[1-9]|1[0-2])(?:0[1-9]|[12]\d|3[01])\d\d$/.test(String(serial))) return next;
  const today = Number(new Date(now).toISOString().slice(0, 10).replaceAll('-', '')) * 100 + 1;
  return isNewer(today, serial) ? today : next;
}

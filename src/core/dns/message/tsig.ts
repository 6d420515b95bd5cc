import { createHmac, timingSafeEqual } from 'node:crypto';
import { type DnsName, keyOf, nameFromWire, nameToWire, parseName, sameName } from '../records/name.js';
import { dnsClass, rcodeWord, recordFromWire, recordToWire, u16, u32 } from './message.js';

/** The algorithms that a key may be for (RFC 8945, section 6), by their names in the sheet. */
export const tsigAlgorithms = [
  'hmac-sha256',
  'hmac-sha384',
  'hmac-sha512',
  'hmac-sha224',
  'hmac-sha1',
] as const;
type TsigAlgorithm = (typeof tsigAlgorithms)[number];

/** A key that a server and this program share. */
export interface TsigKey {
  readonly name: DnsName;
  readonly algorithm: TsigAlgorithm;
  readonly secret: Buffer;
}

/** By how many seconds the clocks of both sides may differ (RFC 8945, section 10). */
const tsigFudge = 300;

/** What is in a TSIG record (RFC 8945, section 4.2). */
interface Tsig {
  readonly key: DnsName;
  readonly algorithm: DnsName;
  /** Seconds since 1970. */
  readonly time: number;
  readonly fudge: number;
  readonly mac: Buffer;
  readonly originalId: number;
  readonly error: number;
  readonly other: Buffer;
}

/** A signature that is wrong or missing: nothing in the message can be trusted. */
class TsigError extends Error {}

function variablesOf(tsig: Omit<Tsig, 'mac' | 'originalId'>): Buffer {
  return Buffer.concat([
    nameToWire(keyOf(tsig.key)),
    u16(dnsClass.ANY),
    u32(0),
    nameToWire(keyOf(tsig.algorithm)),
    timersOf(tsig),
    u16(tsig.error),
    u16(tsig.other.length),
    tsig.other,
  ]);
}

function timersOf({ time, fudge }: Pick<Tsig, 'time' | 'fudge'>): Buffer {
  return Buffer.concat([u16(Math.floor(time / 2 ** 32)), u32(time >>> 0), u16(fudge)]);
}

function macOf(key: TsigKey, parts: readonly Buffer[]): Buffer {
  const hmac = createHmac(key.algorithm.slice('hmac-'.length), key.secret);
  for (const part of parts) hmac.update(part);
  return hmac.digest();
}

/** A MAC with its length, as it goes into the next one. */
function prior(mac: Buffer | undefined): Buffer {
  return mac ? Buffer.concat([u16(mac.length), mac]) : Buffer.alloc(0);
}

/**
 * Signs a message (RFC 8945, section 5).
 * @param time seconds since 1970
 * @param requestMac of an answer: the MAC of the request
 * @param error of an answer to a message whose signature is wrong
 * @param timersOnly of a message of a transfer after the first; `requestMac` is the MAC of the one before then
 * @returns the message with its signature, and the MAC that the answer's goes on from
 */
export function signMessage(
  wire: Buffer,
  key: TsigKey,
  time: number,
  requestMac?: Buffer,
  error = 0,
  { timersOnly = false } = {},
): { readonly wire: Buffer; readonly mac: Buffer } {
  const algorithm = parseName(key.algorithm);
  const tsig = { key: key.name, algorithm, time, fudge: tsigFudge, error, other: Buffer.alloc(0) };
  const mac = macOf(key, [prior(requestMac), wire, timersOnly ? timersOf(tsig) : variablesOf(tsig)]);
  return { wire: withRecord(wire, { ...tsig, mac, originalId: wire.readUInt16BE(0) }), mac };
}

/** A message with a TSIG record as its last one. */
function withRecord(wire: Buffer, tsig: Tsig): Buffer {
  const data = Buffer.concat([
    nameToWire(tsig.algorithm),
    timersOf(tsig),
    u16(tsig.mac.length),
    tsig.mac,
    u16(tsig.originalId),
    u16(tsig.error),
    u16(tsig.other.length),
    tsig.other,
  ]);
  const record = recordToWire({ name: tsig.key, type: 'TSIG', class: dnsClass.ANY, ttl: 0, data });
  const all = Buffer.concat([wire, record]);
  all.writeUInt16BE(all.readUInt16BE(10) + 1, 10);
  return all;
}

/** Takes the TSIG record off a message; undefined where it has none. @throws an Error for what is no message */
function splitTsig(wire: Buffer): { readonly bare: Buffer; readonly tsig: Tsig } | undefined {
  const counts = [4, 6, 8, 10].map(at => wire.readUInt16BE(at));
  let at = 12;
  for (let i = 0; i < counts[0]!; i++) at = nameFromWire(wire, at).end + 4;
  const records = counts[1]! + counts[2]! + counts[3]!;
  for (let i = 0; i < records - 1; i++) at = recordFromWire(wire, at).end;
  if (records === 0) return undefined;
  const { record, end } = recordFromWire(wire, at);
  if (record.type !== 'TSIG') return undefined;
  if (end !== wire.length) throw new Error('something follows the signature');
  const tsig = readTsig(record.name, record.data);
  const bare = Buffer.from(wire.subarray(0, at));
  bare.writeUInt16BE(counts[3]! - 1, 10);
  bare.writeUInt16BE(tsig.originalId, 0);
  return { bare, tsig };
}

function readTsig(key: DnsName, data: Buffer): Tsig {
  const { name: algorithm, end: at } = nameFromWire(data, 0);
  const size = data.readUInt16BE(at + 8);
  const rest = at + 10 + size;
  const tsig = {
    key,
    algorithm,
    time: data.readUInt16BE(at) * 2 ** 32 + data.readUInt32BE(at + 2),
    fudge: data.readUInt16BE(at + 6),
    mac: data.subarray(at + 10, rest),
    originalId: data.readUInt16BE(rest),
    error: data.readUInt16BE(rest + 2),
    other: data.subarray(rest + 6),
  };
  if (tsig.other.length !== data.readUInt16BE(rest + 4)) throw new Error('a signature is cut off');
  return tsig;
}

/**
 * Verifies the signatures of the messages that answer one signed request, in order (RFC 8945, section 5.3.1): the first
 * is signed, and of a transfer at least every hundredth.
 */
export class TsigVerifier {
  private readonly key: TsigKey;
  private readonly now: () => number;
  private mac: Buffer;
  private isFirst = true;
  private unsigned: Buffer[] = [];

  /** @param now seconds since 1970 */
  constructor(key: TsigKey, requestMac: Buffer, now: () => number) {
    this.key = key;
    this.mac = requestMac;
    this.now = now;
  }

  /** @throws TsigError where a signature is wrong, missing, or says that ours was wrong */
  verify(wire: Buffer): void {
    const split = splitTsig(wire);
    if (!split) {
      if (this.isFirst) throw new TsigError('the answer is not signed');
      this.unsigned.push(wire);
      if (this.unsigned.length > 99) throw new TsigError('too many messages are not signed');
      return;
    }
    const { bare, tsig } = split;
    const { key } = this;
    if (tsig.error !== 0 && tsig.mac.length === 0)
      throw new TsigError(`it answers ${rcodeWord(tsig.error)} to our signature`);
    if (!sameName(tsig.key, key.name) || !sameName(tsig.algorithm, parseName(key.algorithm)))
      throw new TsigError('the answer is signed with another key');
    const last = this.isFirst ? variablesOf(tsig) : timersOf(tsig);
    const mac = macOf(key, [prior(this.mac), ...this.unsigned, bare, last]);
    if (mac.length !== tsig.mac.length || !timingSafeEqual(mac, tsig.mac))
      throw new TsigError('the signature of the answer is wrong');
    if (tsig.error !== 0) throw new TsigError(`it answers ${rcodeWord(tsig.error)} to our signature`);
    if (Math.abs(tsig.time - this.now()) > tsig.fudge)
      throw new TsigError(
        `the clock of the server and this one differ by ${Math.abs(tsig.time - this.now())} seconds`,
      );
    this.mac = tsig.mac;
    this.isFirst = false;
    this.unsigned = [];
  }

  /** @throws TsigError where the last message was not signed */
  end(): void {
    if (this.isFirst || this.unsigned.length > 0) throw new TsigError('the end of the answer is not signed');
  }
}

/** A request's signature, with what is wrong with it: 0 for nothing. */
export interface JudgedRequest {
  readonly error: number;
  readonly key: TsigKey | undefined;
  readonly mac: Buffer;
  readonly named: Pick<Tsig, 'key' | 'algorithm'>;
}

/**
 * Judges the signature of a request, as a server does (RFC 8945, section 5.2).
 * @param now seconds since 1970
 * @returns undefined where it is not signed
 */
export function judgeRequest(wire: Buffer, keys: readonly TsigKey[], now: number): JudgedRequest | undefined {
  const split = splitTsig(wire);
  if (!split) return undefined;
  const { bare, tsig } = split;
  const named = { key: tsig.key, algorithm: tsig.algorithm };
  const key = keys.find(
    one => sameName(one.name, named.key) && sameName(parseName(one.algorithm), named.algorithm),
  );
  const judged = { key, mac: tsig.mac, named };
  if (!key) return { ...judged, error: tsigErrors.badKey };
  const mac = macOf(key, [bare, variablesOf(tsig)]);
  if (mac.length !== tsig.mac.length || !timingSafeEqual(mac, tsig.mac))
    return { ...judged, error: tsigErrors.badSignature };
  return { ...judged, error: Math.abs(tsig.time - now) > tsig.fudge ? tsigErrors.badTime : 0 };
}

const tsigErrors = { badSignature: 16, badKey: 17, badTime: 18 };

/** Signs the answer to a request; one whose signature is wrong gets one that is not signed (RFC 8945, section 5.3.2). */
export function signAnswer(wire: Buffer, { key, mac, error, named }: JudgedRequest, now: number): Buffer {
  if (key && error !== tsigErrors.badSignature) return signMessage(wire, key, now, mac, error).wire;
  const nothing = Buffer.alloc(0);
  const originalId = wire.readUInt16BE(0);
  return withRecord(wire, {
    ...named,
    time: now,
    fudge: tsigFudge,
    mac: nothing,
    originalId,
    error,
    other: nothing,
  });
}

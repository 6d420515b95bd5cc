import { createCipheriv, createDecipheriv, createHash, createHmac, timingSafeEqual } from 'node:crypto';
import { deflateRawSync, inflateRawSync } from 'node:zlib';
import { type HatchKeys, requestKey, signatureOf } from './keys.js';

/** What a hatch is asked: the word for it, and what belongs to that. */
export interface HatchAsk {
  readonly do: string;
  readonly [argument: string]: unknown;
}

/** A request before it is signed. */
export interface HatchRequest {
  /** The hatch that is meant, by its name. */
  readonly hatch: string;
  /** Grows with each request; each is answered once. */
  readonly number: number;
  /** The hatch's clock, in seconds. */
  readonly time: number;
  readonly ask: HatchAsk;
  readonly data: Buffer;
  /** Whether the body is packed on its way. */
  readonly packs: boolean;
  /** Whether nobody on the way may read the body. */
  readonly seals: boolean;
}

/** What a hatch answers. */
export interface HatchAnswer {
  readonly result: Readonly<Record<string, unknown>>;
  readonly data: Buffer;
}

/** An answer that is not from the hatch, or not the whole of it. */
export class NotFromHatch extends Error {}

const macBytes = 32;
const lengthBytes = 4;
const nonceBytes = 12;
const tagBytes = 16;
/** What an answer may unpack to, in bytes. */
const largest = 64 * 1024 * 1024;

/** The bytes of a request (see the head of hatch.php). */
export function requestBytes(keys: HatchKeys, request: HatchRequest): Buffer {
  const { hatch, number, time, packs, seals } = request;
  let body: Buffer = Buffer.concat([Buffer.from(`${JSON.stringify(request.ask)}\n`), request.data]);
  if (packs) body = packed(body);
  if (seals) body = sealed(requestKey(keys.secret, 'ask', number), body);
  const sum = createHash('sha256').update(body).digest('hex');
  const head = Buffer.from(JSON.stringify({ hatch, n: number, time, sum, packed: packs, sealed: seals }));
  const signature = signatureOf(keys, head).toString('base64');
  return Buffer.concat([Buffer.from(`${signature}\n`), head, Buffer.from('\n'), body]);
}

/**
 * Reads the answer to a request.
 * @throws NotFromHatch where it does not carry the digest that only the hatch can make for this request
 */
export function readAnswer(
  { secret }: Pick<HatchKeys, 'secret'>,
  { number, seals }: Pick<HatchRequest, 'number' | 'seals'>,
  answer: Buffer,
): HatchAnswer {
  if (answer.length < macBytes + lengthBytes) throw new NotFromHatch('it is too short');
  let body: Buffer = answer.subarray(0, -macBytes);
  const mac = createHmac('sha256', requestKey(secret, 'reply', number))
    .update(body)
    .digest();
  if (!timingSafeEqual(mac, answer.subarray(-macBytes))) throw new NotFromHatch('it is not proved');
  if (seals) body = opened(requestKey(secret, 'seal', number), body);
  const length = body.readUInt32BE(body.length - lengthBytes);
  const end = body.length - lengthBytes - length;
  const result = JSON.parse(body.subarray(end, -lengthBytes).toString()) as HatchAnswer['result'];
  const data = body.subarray(0, end);
  return { result, data: result.packed ? inflateRawSync(data, { maxOutputLength: largest }) : data };
}

/** A body as it is packed on its way: raw DEFLATE. */
export function packed(body: Buffer): Buffer {
  return deflateRawSync(body, { level: 2 });
}

/** AES-256-GCM: nonce, tag and text. */
export function sealed(key: Buffer, text: Buffer): Buffer {
  // Each key is good for one text, so nothing else needs to differ.
  const nonce = Buffer.alloc(nonceBytes);
  const cipher = createCipheriv('aes-256-gcm', key, nonce);
  const body = Buffer.concat([cipher.update(text), cipher.final()]);
  return Buffer.concat([nonce, cipher.getAuthTag(), body]);
}

export function opened(key: Buffer, body: Buffer): Buffer {
  const decipher = createDecipheriv('aes-256-gcm', key, body.subarray(0, nonceBytes));
  decipher.setAuthTag(body.subarray(nonceBytes, nonceBytes + tagBytes));
  return Buffer.concat([decipher.update(body.subarray(nonceBytes + tagBytes)), decipher.final()]);
}

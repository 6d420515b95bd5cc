import { createHash, createHmac, timingSafeEqual } from 'node:crypto';
import type { IncomingHttpHeaders } from 'node:http';

/** A request, as far as its signature covers it. */
export interface SignedRequest {
  readonly method: string;
  /** As it was sent, with its query. */
  readonly url: string;
  readonly headers: IncomingHttpHeaders;
}

/** Who may ask. */
export interface S3Account {
  readonly accessKeyId: string;
  readonly secretAccessKey: string;
}

/** Requests may be so old, in milliseconds. */
const patience = 15 * 60 * 1000;

/**
 * Why a request is refused (an error code of the API), or undefined where its signature is right: Signature Version 4 in the
 * `Authorization` header, with the SHA-256 of the content in `x-amz-content-sha256`, which whoever reads the content compares.
 */
export function refusalOf(
  { method, url, headers }: SignedRequest,
  account: S3Account,
  now: number,
): string | undefined {
  const pattern =
    /^AWS4-HMAC-SHA256 Credential=([^/,]+)\/(\d{8})\/([\w-]+)\/s3\/aws4_request, ?SignedHeaders=([\w;-]+), ?Signature=([0-9a-f]{64})$/;
  const [, key, day, region, signed, given] = pattern.exec(headers.authorization ?? '') ?? [];
  const time = String(headers['x-amz-date'] ?? '');
  if (!key || !day || !region || !signed || !given) return 'AccessDenied';
  if (key !== account.accessKeyId) return 'InvalidAccessKeyId';
  const at = Date.parse(time.replace(/^(\d{4})(\d\d)(\d\d)T(\d\d)(\d\d)(\d\d)Z$/, '$1-$2-$3T$4:$5:$6Z'));
  if (Number.isNaN(at) || !time.startsWith(day) || Math.abs(now - at) > patience)
    return 'RequestTimeTooSkewed';
  const names = signed.split(';');
  const mustBe = ['host', 'x-amz-date', 'x-amz-content-sha256'];
  if (!mustBe.every(name => names.includes(name))) return 'AccessDenied';
  const [path, query = ''] = url.split('?', 2) as [string, string?];
  const canonical = [
    method,
    path,
    canonicalQuery(query),
    ...names.map(
      name =>
        `${name}:${String(headers[name] ?? '')
          .trim()
          .replace(/ +/g, ' ')}`,
    ),
    '',
    signed,
    String(headers['x-amz-content-sha256']),
  ].join('\n');
  const scope = `${day}/${region}/s3/aws4_request`;
  const text = ['AWS4-HMAC-SHA256', time, scope, sha256(canonical)].join('\n');
  const signing = [day, region, 's3', 'aws4_request'].reduce<Buffer>(
    (secret, part) => hmac(secret, part),
    Buffer.from(`AWS4${account.secretAccessKey}`),
  );
  const right = hmac(signing, text);
  return timingSafeEqual(right, Buffer.from(given, 'hex')) ? undefined : 'SignatureDoesNotMatch';
}

function canonicalQuery(query: string): string {
  const parts = query === '' ? [] : query.split('&').map(part => (part.includes('=') ? part : `${part}=`));
  return parts.sort().join('&');
}

function sha256(text: string): string {
  return createHash('sha256').update(text).digest('hex');
}

function hmac(key: Buffer, text: string): Buffer {
  return createHmac('sha256', key).update(text).digest();
}

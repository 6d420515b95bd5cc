import type { AssetKind } from './page.js';

/** What bytes are, as their beginning says. */
export type MediaType =
  | 'png'
  | 'jpeg'
  | 'gif'
  | 'webp'
  | 'avif'
  | 'svg'
  | 'ico'
  | 'bmp'
  | 'font'
  | 'html'
  | 'text'
  | 'other';

/**
 * What bytes are, by the patterns of the WHATWG MIME Sniffing Standard (6 and 7).
 * @param head at least their first 512, where there are so many
 */
export function mediaTypeOf(head: Uint8Array): MediaType {
  const text = Buffer.from(head.buffer, head.byteOffset, Math.min(head.length, 1024)).toString('latin1');
  for (const [pattern, type] of signatures) if (pattern.test(text)) return type;
  return /[\x00-\x08\x0E-\x1A\x1C-\x1F]/.test(text) ? 'other' : 'text';
}

const signatures: readonly (readonly [RegExp, MediaType])[] = [
  [/^\x89PNG\r\n\x1A\n/, 'png'],
  [/^\xFF\xD8\xFF/, 'jpeg'],
  [/^GIF8[79]a/, 'gif'],
  [/^RIFF[\s\S]{4}WEBP/, 'webp'],
  [/^[\s\S]{4}ftypavi[fs]/, 'avif'],
  [/^\0\0[\x01\x02]\0/, 'ico'],
  [/^BM[\s\S]{4}\0{4}/, 'bmp'],
  [/^(?:wOFF|wOF2|OTTO|true|ttcf|\0\x01\0\0)/, 'font'],
  [/^[\s\S]{34}LP/, 'font'],
  [
    /^(?:\xEF\xBB\xBF)?\s*(?:<\?xml[\s\S]*?\?>\s*)?(?:<!--[\s\S]*?-->\s*)*(?:<!DOCTYPE svg[\s\S]*?>\s*)?<svg[\s>]/i,
    'svg',
  ],
  [/^(?:\xEF\xBB\xBF)?\s*(?:<!doctype html|<html|<head|<body|<\?php)/i, 'html'],
];

/** Why bytes that are to be an image are none that a browser shows; undefined where nothing is wrong with them. */
export function imageFault(bytes: Uint8Array): string | undefined {
  const type = mediaTypeOf(bytes);
  const view = Buffer.from(bytes.buffer, bytes.byteOffset, bytes.byteLength);
  switch (type) {
    case 'png':
      return pngFault(view);
    case 'jpeg':
      return jpegFault(view);
    case 'gif':
      return view.readUInt16LE(6) === 0 || view.lastIndexOf(0x3b) < 13 ? 'it is cut off' : undefined;
    case 'webp':
      return view.readUInt32LE(4) + 8 > view.length + 1 ? 'it is cut off' : undefined;
    case 'svg':
      return /<\/svg\s*>\s*(?:<!--[\s\S]*?-->\s*)*$|^[^>]*\/>\s*$/.test(view.toString('latin1'))
        ? undefined
        : 'it is cut off';
    case 'html':
      return 'it is an HTML page';
    case 'text':
    case 'font':
    case 'other':
      return 'it is no image';
    default:
      return undefined;
  }
}

/** PNG (W3C Recommendation, third edition, 5.3): chunks, each with its length, up to IEND. */
function pngFault(bytes: Buffer): string | undefined {
  let hasPixels = false;
  for (let at = 8; at + 12 <= bytes.length; ) {
    const length = bytes.readUInt32BE(at);
    const kind = bytes.toString('latin1', at + 4, at + 8);
    if (kind === 'IDAT') hasPixels = true;
    if (kind === 'IEND') return hasPixels ? undefined : 'it has no pixels';
    at += 12 + length;
  }
  return 'it is cut off';
}

/** JPEG (ITU-T T.81, annex B): segments, each with its length, up to the first scan; then the end marker. */
function jpegFault(bytes: Buffer): string | undefined {
  let at = 2;
  for (let hasFrame = false; at + 4 <= bytes.length; ) {
    if (bytes[at] !== 0xff) return 'it is damaged';
    const marker = bytes[at + 1]!;
    if (marker === 0xff) {
      at++;
      continue;
    }
    if (marker >= 0xc0 && marker <= 0xcf && ![0xc4, 0xc8, 0xcc].includes(marker)) hasFrame = true;
    if (marker === 0xda) {
      if (!hasFrame) return 'it is damaged';
      return bytes.lastIndexOf(Buffer.from([0xff, 0xd9])) > at ? undefined : 'it is cut off';
    }
    at += 2 + bytes.readUInt16BE(at + 2);
  }
  return 'it is cut off';
}

const expected: Readonly<Record<AssetKind, RegExp | undefined>> = {
  image: /^image\//,
  icon: /^image\//,
  style: /^text\/css$/,
  script: /(?:java|ecma)script|^application\/(?:json|importmap)|^text\/plain$/,
  font: /^font\/|^application\/(?:font|x-font|vnd\.ms-fontobject|octet-stream)/,
  media: undefined,
  frame: undefined,
  data: undefined,
};

/**
 * Whether a browser refuses an asset for the type with which it is served.
 * @param type of the `Content-Type` header
 */
export function isWrongType(kind: AssetKind, type: string | undefined): boolean {
  const wanted = expected[kind];
  const [plain] = (type ?? '').toLowerCase().split(/\s*;/);
  return wanted !== undefined && Boolean(plain) && !wanted.test(plain!.trim());
}

import { asBytes, type ByteString, bufferOf, bytesOf } from '../../bytes.js';
import { addressFromText, addressToText } from './ip.js';
import { locationFromWords, locationToText } from './location.js';
import { type DnsName, nameFromWire, nameToWire, parseName } from './name.js';
import { parametersFromTokens, parametersToText } from './parameters.js';
import { seconds } from './seconds.js';
import { algorithms, certificateKinds, type Field, typeNumber, typeWord } from './types.js';
import { quoted, type Token, unescaped } from './words.js';

/** How one kind of field is read from words and written again. */
interface Codec {
  /** @returns its bytes, and how many words they were */
  read(tokens: readonly [Token, ...Token[]], origin: DnsName): { data: Buffer; used: number };
  /** @returns its text, and where what follows it begins */
  write(data: Buffer, at: number): { text: string; end: number };
}

/** @throws an Error that says what is wrong with it, or that it is missing */
export function readField(
  field: Field,
  tokens: readonly Token[],
  origin: DnsName,
): { data: Buffer; used: number } {
  const [first, ...others] = tokens;
  if (first) return codecs[field].read([first, ...others], origin);
  // A signature's bitmap and the parameters of a service may be empty.
  if (field === 'types' || field === 'parameters') return { data: Buffer.alloc(0), used: 0 };
  throw new Error('a part of the record is missing');
}

export function writeField(field: Field, data: Buffer, at: number): { text: string; end: number } {
  return codecs[field].write(data, at);
}

/** A field of one word. */
function word(read: (text: string, origin: DnsName) => Buffer, write: Codec['write']): Codec {
  return { read: ([{ text }], origin) => ({ data: read(text, origin), used: 1 }), write };
}

function number(size: 1 | 2 | 4, read = wholeNumber): Codec {
  return word(
    text => {
      const data = Buffer.alloc(size);
      const value = read(text);
      if (value >= 2 ** (8 * size)) throw new Error(`${text} is too large`);
      data.writeUIntBE(value, 0, size);
      return data;
    },
    (data, at) => ({ text: String(data.readUIntBE(at, size)), end: at + size }),
  );
}

function wholeNumber(text: string): number {
  if (!/^\d{1,10}$/.test(text)) throw new Error(`${JSON.stringify(text)} is no number`);
  return Number(text);
}

/** A number, or a word for it. */
function numberIn(words: ReadonlyMap<string, number>): (text: string) => number {
  return text => words.get(text.toUpperCase()) ?? wholeNumber(text);
}

function address(version: 4 | 6): Codec {
  const size = version === 4 ? 4 : 16;
  return word(
    text => addressFromText(text, version),
    (data, at) => ({ text: addressToText(slice(data, at, size)), end: at + size }),
  );
}

/** Bytes that are there in full. */
function slice(data: Buffer, at: number, size: number): Buffer {
  if (at + size > data.length) throw new Error('a record is cut off');
  return data.subarray(at, at + size);
}

function counted(bytes: ByteString): Buffer {
  if (bytes.length > 255) throw new Error('a character string is longer than 255 bytes');
  return bufferOf(asBytes(String.fromCharCode(bytes.length) + bytes));
}

/** All the words that are left, as one. */
function restOf(decode: (text: string) => Buffer, encode: (data: Buffer) => string): Codec {
  return {
    read: tokens => ({ data: decode(tokens.map(({ text }) => text).join('')), used: tokens.length }),
    write: (data, at) => ({ text: encode(data.subarray(at)), end: data.length }),
  };
}

function hexData(text: string): Buffer {
  if (!/^(?:[\da-f]{2})*$/i.test(text)) throw new Error(`${JSON.stringify(text)} is no hex`);
  return Buffer.from(text, 'hex');
}

function base64Data(text: string): Buffer {
  if (!/^[\w+/]*={0,2}$/.test(text) || text.length % 4 !== 0)
    throw new Error(`${JSON.stringify(text)} is no base64`);
  return Buffer.from(text, 'base64');
}

const codecs: Readonly<Record<Field, Codec>> = {
  u8: number(1),
  u16: number(2),
  u32: number(4),
  seconds: number(4, seconds),
  algorithm: number(1, numberIn(algorithms)),
  certificate: number(2, numberIn(certificateKinds)),
  type: word(
    text => {
      const type = typeNumber(text);
      if (type === undefined) throw new Error(`${JSON.stringify(text)} is no type`);
      return Buffer.from([type >> 8, type & 0xff]);
    },
    (data, at) => ({ text: typeWord(data.readUInt16BE(at)), end: at + 2 }),
  ),
  ipv4: address(4),
  ipv6: address(6),
  name: word(
    (text, origin) => nameToWire(parseName(text, origin)),
    (data, at) => {
      const { name, end } = nameFromWire(data, at);
      return { text: name, end };
    },
  ),
  text: word(
    text => counted(unescaped(asBytes(text))),
    (data, at) => ({
      text: quoted(bytesOf(slice(data, at + 1, data.readUInt8(at)))),
      end: at + 1 + data.readUInt8(at),
    }),
  ),
  texts: {
    read: tokens => ({
      data: Buffer.concat(tokens.map(({ text }) => counted(unescaped(text)))),
      used: tokens.length,
    }),
    write: (data, start) => {
      const all: string[] = [];
      let at = start;
      do {
        const { text, end } = codecs.text.write(data, at);
        all.push(text);
        at = end;
      } while (at < data.length);
      return { text: all.join(' '), end: at };
    },
  },
  tag: word(
    text => counted(unescaped(asBytes(text))),
    (data, at) => {
      const end = at + 1 + data.readUInt8(at);
      const text = bytesOf(slice(data, at + 1, end - at - 1));
      if (!/^[\da-z]+$/i.test(text)) throw new Error('a tag has a character that it may not have');
      return { text, end };
    },
  ),
  quoted: word(
    text => bufferOf(unescaped(asBytes(text))),
    (data, at) => ({ text: quoted(bytesOf(data.subarray(at))), end: data.length }),
  ),
  hex: restOf(hexData, data => data.toString('hex').toUpperCase()),
  base64: restOf(base64Data, data => data.toString('base64')),
  salt: word(
    text => counted(bytesOf(hexData(text === '-' ? '' : text))),
    (data, at) => {
      const salt = slice(data, at + 1, data.readUInt8(at));
      return {
        text: salt.length === 0 ? '-' : salt.toString('hex').toUpperCase(),
        end: at + 1 + salt.length,
      };
    },
  ),
  base32: word(
    text => counted(bytesOf(base32Data(text))),
    (data, at) => {
      const hash = slice(data, at + 1, data.readUInt8(at));
      return { text: base32Text(hash), end: at + 1 + hash.length };
    },
  ),
  types: {
    read: tokens => ({ data: bitmapOf(tokens.map(({ text }) => text)), used: tokens.length }),
    write: (data, at) => ({ text: typesIn(data.subarray(at)).join(' '), end: data.length }),
  },
  date: word(
    text => {
      const time = Buffer.alloc(4);
      time.writeUInt32BE(dateSeconds(text) >>> 0);
      return time;
    },
    (data, at) => {
      const digits = new Date(data.readUInt32BE(at) * 1000).toISOString().replace(/\D/g, '');
      return { text: digits.slice(0, 14), end: at + 4 };
    },
  ),
  location: {
    read: tokens => ({
      data: locationFromWords(tokens.map(({ text }) => text)),
      used: tokens.length,
    }),
    write: (data, at) => ({ text: locationToText(slice(data, at, 16)), end: at + 16 }),
  },
  parameters: {
    read: tokens => ({ data: parametersFromTokens(tokens), used: tokens.length }),
    write: (data, at) => ({ text: parametersToText(data.subarray(at)), end: data.length }),
  },
};

/** A date in UTC as signatures have it, or seconds since 1970. */
function dateSeconds(text: string): number {
  const parts = /^(\d{4})(\d\d)(\d\d)(\d\d)(\d\d)(\d\d)$/.exec(text);
  if (!parts) return wholeNumber(text);
  const [year, month, day, hour, minute, second] = parts.slice(1).map(Number);
  return Date.UTC(year!, month! - 1, day!, hour!, minute!, second!) / 1000;
}

/** RFC 4648, section 7, without padding. */
const base32Digits = '0123456789ABCDEFGHIJKLMNOPQRSTUV';

function base32Text(data: Buffer): string {
  let [bits, held, text] = [0, 0, ''];
  for (const byte of data) {
    bits = ((bits << 8) | byte) & 0xfff;
    for (held += 8; held >= 5; held -= 5) text += base32Digits[(bits >> (held - 5)) & 31];
  }
  return held > 0 ? text + base32Digits[(bits << (5 - held)) & 31] : text;
}

function base32Data(text: string): Buffer {
  const bytes: number[] = [];
  let [bits, held] = [0, 0];
  for (const digit of text.toUpperCase()) {
    const value = base32Digits.indexOf(digit);
    if (value < 0) throw new Error(`${JSON.stringify(text)} is no base32`);
    bits = ((bits << 5) | value) & 0xfff;
    held += 5;
    if (held < 8) continue;
    held -= 8;
    bytes.push((bits >> held) & 0xff);
  }
  return Buffer.from(bytes);
}

/** RFC 4034, section 4.1.2: windows of 256 types, each with as many bytes as it needs. */
function bitmapOf(types: readonly string[]): Buffer {
  const windows = new Map<number, number[]>();
  for (const type of types) {
    const value = typeNumber(type);
    if (value === undefined) throw new Error(`${JSON.stringify(type)} is no type`);
    const bits = windows.get(value >> 8) ?? [];
    const byte = (value & 0xff) >> 3;
    while (bits.length <= byte) bits.push(0);
    bits[byte]! |= 0x80 >> (value & 7);
    windows.set(value >> 8, bits);
  }
  const inOrder = [...windows].sort(([a], [b]) => a - b);
  return Buffer.from(inOrder.flatMap(([window, bits]) => [window, bits.length, ...bits]));
}

function typesIn(data: Buffer): string[] {
  const types: string[] = [];
  for (let at = 0; at < data.length; ) {
    const [window, length] = [data.readUInt8(at), data.readUInt8(at + 1)];
    const bits = slice(data, at + 2, length);
    for (let bit = 0; bit < bits.length * 8; bit++)
      if (bits[bit >> 3]! & (0x80 >> (bit & 7))) types.push(typeWord(window * 256 + bit));
    at += 2 + length;
  }
  return types;
}

import { asBytes, type ByteString, bufferOf, bytesOf } from '../../bytes.js';
import { addressFromText, addressToText } from './ip.js';
import { quoted, type Token, unescaped } from './words.js';

/** The parameters of a service and their numbers (RFC 9460, section 14.3.2). */
const keys = [
  'mandatory',
  'alpn',
  'no-default-alpn',
  'port',
  'ipv4hint',
  'ech',
  'ipv6hint',
  'dohpath',
] as const;

/** @throws an Error for a parameter that is none */
export function parametersFromTokens(tokens: readonly Token[]): Buffer {
  const parameters = new Map<number, Buffer>();
  for (let i = 0; i < tokens.length; i++) {
    const [, word, equals, short] = /^([\da-z-]+)(=?)(.*)$/is.exec(tokens[i]!.text) ?? [];
    const key = word === undefined ? undefined : keyNumber(word);
    if (key === undefined) throw new Error(`${JSON.stringify(tokens[i]!.text)} is no parameter of a service`);
    // A value in quotes is a word of its own.
    const value = equals && short === '' && tokens[i + 1]?.quoted ? tokens[++i]!.text : (short ?? '');
    parameters.set(key, valueFrom(keys[key], unescaped(asBytes(value))));
  }
  const parts = [...parameters].sort(([a], [b]) => a - b);
  return Buffer.concat(
    parts.flatMap(([key, value]) => {
      const head = Buffer.alloc(4);
      head.writeUInt16BE(key);
      head.writeUInt16BE(value.length, 2);
      return [head, value];
    }),
  );
}

function keyNumber(word: string): number | undefined {
  const at = keys.indexOf(word.toLowerCase() as (typeof keys)[number]);
  const number = at >= 0 ? at : Number(/^key(\d{1,5})$/i.exec(word)?.[1] ?? Number.NaN);
  return number < 0xffff ? number : undefined;
}

function valueFrom(key: string | undefined, value: ByteString): Buffer {
  switch (key) {
    case 'mandatory': {
      const numbers = value.split(',').map(keyNumber);
      if (numbers.some(one => one === undefined)) throw new Error(`${value} is no list of parameters`);
      const inOrder = (numbers as number[]).sort((a, b) => a - b);
      return Buffer.from(inOrder.flatMap(one => [one >> 8, one & 0xff]));
    }
    case 'alpn':
      // A comma or a backslash in a name is escaped once more (RFC 9460, appendix A.1).
      return bufferOf(
        asBytes(
          [...value.matchAll(/(?:[^,\\]|\\.)+/gs)]
            .map(([one]) => one.replace(/\\(.)/gs, '$1'))
            .map(one => String.fromCharCode(one.length) + one)
            .join(''),
        ),
      );
    case 'port':
      return Buffer.from([Number(value) >> 8, Number(value) & 0xff]);
    case 'ipv4hint':
      return Buffer.concat(value.split(',').map(one => addressFromText(one, 4)));
    case 'ipv6hint':
      return Buffer.concat(value.split(',').map(one => addressFromText(one, 6)));
    case 'ech':
      return Buffer.from(value, 'base64');
    default:
      return bufferOf(value);
  }
}

/** @throws an Error where they are cut off */
export function parametersToText(data: Buffer): string {
  const parts: string[] = [];
  for (let at = 0; at < data.length; ) {
    const [key, length] = [data.readUInt16BE(at), data.readUInt16BE(at + 2)];
    if (at + 4 + length > data.length) throw new Error('the parameters of a service are cut off');
    parts.push(parameterText(key, data.subarray(at + 4, at + 4 + length)));
    at += 4 + length;
  }
  return parts.join(' ');
}

function parameterText(key: number, value: Buffer): string {
  const word = keys[key] ?? `key${key}`;
  if (value.length === 0) return word;
  switch (word) {
    case 'mandatory':
      return `${word}=${pieces(value, 2).map(one => keys[one.readUInt16BE()] ?? `key${one.readUInt16BE()}`)}`;
    case 'alpn': {
      const names: string[] = [];
      for (let at = 0; at < value.length; at += value[at]! + 1)
        names.push(bytesOf(value.subarray(at + 1, at + 1 + value[at]!)).replace(/[,\\]/g, '\\$&'));
      return `${word}=${quoted(names.join(','))}`;
    }
    case 'port':
      return `${word}=${value.readUInt16BE()}`;
    case 'ipv4hint':
      return `${word}=${pieces(value, 4).map(addressToText)}`;
    case 'ipv6hint':
      return `${word}=${pieces(value, 16).map(addressToText)}`;
    case 'ech':
      return `${word}=${value.toString('base64')}`;
    default:
      return `${word}=${quoted(bytesOf(value))}`;
  }
}

function pieces(data: Buffer, size: number): Buffer[] {
  if (data.length % size !== 0) throw new Error('a parameter of a service is cut off');
  return Array.from({ length: data.length / size }, (_, i) => data.subarray(i * size, (i + 1) * size));
}

import { asBytes, type ByteString, bytesOf } from '../../bytes.js';
import { readField, writeField } from './fields.js';
import { type DnsName, nameFromWire, nameToWire, rootName } from './name.js';
import { fieldsOf, isOfNames } from './types.js';
import type { Token } from './words.js';

/**
 * Writes a record's data as a zone file does, with names in full.
 * @param data as on the wire, with names in full
 */
export function dataToText(type: string, data: Buffer): string {
  const fields = fieldsOf(type);
  if (!fields) return unknownText(data);
  try {
    const parts: string[] = [];
    let at = 0;
    for (const field of fields) {
      const { text, end } = writeField(field, data, at);
      if (text !== '') parts.push(text);
      at = end;
    }
    return at === data.length ? parts.join(' ') : unknownText(data);
  } catch {
    // Data that does not have the fields of its type is kept as it is.
    return unknownText(data);
  }
}

/** RFC 3597, section 5. */
function unknownText(data: Buffer): string {
  return data.length === 0 ? '\\# 0' : `\\# ${data.length} ${data.toString('hex')}`;
}

/**
 * Reads a record's data as a zone file writes it.
 * @param origin completes relative names
 * @throws an Error that says what is wrong with it
 */
export function dataFromTokens(type: string, tokens: readonly Token[], origin: DnsName): Buffer {
  const [first] = tokens;
  if (first && !first.quoted && first.text === '\\#') return unknownData(tokens.slice(1));
  const fields = fieldsOf(type);
  if (!fields) throw new Error(`the data of the type ${type} is to be written as \\# LENGTH HEX`);
  const parts: Buffer[] = [];
  let rest = tokens;
  for (const field of fields) {
    const { data, used } = readField(field, rest, origin);
    parts.push(data);
    rest = rest.slice(used);
  }
  if (rest.length > 0)
    throw new Error(`${JSON.stringify(rest[0]!.text)} is too much for a record of the type ${type}`);
  return Buffer.concat(parts);
}

/** Reads a record's data from text of one line, with names in full. @throws an Error for what it cannot be */
export function dataFromText(type: string, text: string): Buffer {
  const tokens = [...text.matchAll(/"((?:[^"\\]|\\.)*)"|((?:[^\s"\\]|\\.)+)/gs)].map(([, quoted, plain]) => ({
    text: asBytes(quoted ?? plain!),
    quoted: quoted !== undefined,
  }));
  return dataFromTokens(type, tokens, rootName);
}

function unknownData([length, ...hex]: readonly Token[]): Buffer {
  const data = Buffer.from(hex.map(({ text }) => text).join(''), 'hex');
  const digits = hex.reduce((sum, { text }) => sum + text.length, 0);
  if (!length || Number(length.text) !== data.length || digits !== data.length * 2)
    throw new Error('data after \\# does not have the length that it gives');
  return data;
}

/**
 * Data of a record in a message with its names written in full.
 * @throws an Error where the data is shorter than its fields
 */
export function expandData(type: string, message: Buffer, start: number, length: number): Buffer {
  const end = start + length;
  const fields = fieldsOf(type);
  if (!fields || !isOfNames(type)) return Buffer.from(message.subarray(start, end));
  const parts: Buffer[] = [];
  let at = start;
  for (const field of fields) {
    if (field === 'name') {
      const { name, end: next } = nameFromWire(message, at);
      parts.push(nameToWire(name));
      at = next;
    } else {
      const { end: next } = writeField(field, message.subarray(0, end), at);
      parts.push(message.subarray(at, next));
      at = next;
    }
  }
  if (at !== end) throw new Error(`the data of a record of the type ${type} has another length than it says`);
  return Buffer.concat(parts);
}

/** The name that a record of a type with one name leads to: CNAME, NS, MX, SRV, …; undefined for another type. */
export function targetOf(type: string, data: Buffer): DnsName | undefined {
  const fields = fieldsOf(type);
  if (!fields?.includes('name')) return undefined;
  let at = 0;
  for (const field of fields) {
    if (field === 'name') return nameFromWire(data, at).name;
    at = writeField(field, data, at).end;
  }
  return undefined;
}

/** The character strings of a TXT record, as one. */
export function textOfTxt(data: Buffer): ByteString {
  let text = '';
  for (let at = 0; at < data.length; at += data[at]! + 1)
    text += bytesOf(data.subarray(at + 1, at + 1 + data[at]!));
  return asBytes(text);
}

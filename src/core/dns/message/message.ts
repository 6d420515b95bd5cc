import { expandData } from '../records/data.js';
import { type DnsName, nameFromWire, nameToWire } from '../records/name.js';
import type { DnsRecord } from '../records/record.js';
import { typeNumber, typeWord } from '../records/types.js';

/** The class of the Internet, and those that an update uses as words (RFC 2136, section 2.3). */
export const dnsClass = { IN: 1, NONE: 254, ANY: 255 } as const;

/** What a message is for (RFC 1035, section 4.1.1; RFC 2136, section 2.2). */
export const opcode = { query: 0, update: 5 } as const;

export interface Question {
  readonly name: DnsName;
  readonly type: string;
  readonly class: number;
}

/** A record in a message: an update uses other classes too. */
export interface MessageRecord extends DnsRecord {
  readonly class: number;
}

/** A DNS message with everything that is in it (RFC 1035, section 4). */
export interface Message {
  readonly id: number;
  readonly flags: {
    readonly isResponse: boolean;
    readonly opcode: number;
    /** The answer comes from a server that has the zone. */
    readonly authoritative: boolean;
    readonly truncated: boolean;
    readonly recursionDesired: boolean;
    readonly recursionAvailable: boolean;
    readonly rcode: number;
  };
  readonly questions: readonly Question[];
  readonly answers: readonly MessageRecord[];
  readonly authorities: readonly MessageRecord[];
  readonly additionals: readonly MessageRecord[];
}

/** The flags of a question. */
export const noFlags: Message['flags'] = {
  isResponse: false,
  opcode: opcode.query,
  authoritative: false,
  truncated: false,
  recursionDesired: false,
  recursionAvailable: false,
  rcode: 0,
};

/** A message with one question and nothing else. */
export function questionMessage(
  id: number,
  name: DnsName,
  type: string,
  { recursive = false } = {},
): Message {
  return {
    id,
    flags: { ...noFlags, recursionDesired: recursive },
    questions: [{ name, type, class: dnsClass.IN }],
    answers: [],
    authorities: [],
    additionals: [],
  };
}

/** A message as it is sent; names are written in full. */
export function messageToWire(message: Message): Buffer {
  const { flags, questions, answers, authorities, additionals } = message;
  const sections = [answers, authorities, additionals];
  const head = Buffer.alloc(12);
  const bits =
    (flags.isResponse ? 0x8000 : 0) |
    (flags.opcode << 11) |
    (flags.authoritative ? 0x0400 : 0) |
    (flags.truncated ? 0x0200 : 0) |
    (flags.recursionDesired ? 0x0100 : 0) |
    (flags.recursionAvailable ? 0x0080 : 0) |
    flags.rcode;
  [message.id, bits, questions.length, ...sections.map(({ length }) => length)].forEach((value, i) => {
    head.writeUInt16BE(value, i * 2);
  });
  return Buffer.concat([
    head,
    ...questions.flatMap(({ name, type, class: of }) => [nameToWire(name), u16(typeNumber(type)!), u16(of)]),
    ...sections.flat().map(recordToWire),
  ]);
}

export function recordToWire({ name, type, class: of, ttl, data }: MessageRecord): Buffer {
  const parts = [nameToWire(name), u16(typeNumber(type)!), u16(of), u32(ttl), u16(data.length), data];
  return Buffer.concat(parts);
}

export function u16(value: number): Buffer {
  return Buffer.from([value >> 8, value & 0xff]);
}

export function u32(value: number): Buffer {
  return Buffer.concat([u16(value >>> 16), u16(value & 0xffff)]);
}

/**
 * Reads a message; what comes from a server may be anything.
 * @throws an Error where it is cut off or is no message
 */
export function messageFromWire(wire: Buffer): Message {
  const bits = wire.readUInt16BE(2);
  const [questionCount, ...counts] = [4, 6, 8, 10].map(at => wire.readUInt16BE(at));
  let at = 12;
  const questions = Array.from({ length: questionCount! }, () => {
    const { name, end } = nameFromWire(wire, at);
    at = end + 4;
    return { name, type: typeWord(wire.readUInt16BE(end)), class: wire.readUInt16BE(end + 2) };
  });
  const [answers, authorities, additionals] = counts.map(count =>
    Array.from({ length: count }, () => {
      const { record, end } = recordFromWire(wire, at);
      at = end;
      return record;
    }),
  );
  return {
    id: wire.readUInt16BE(0),
    flags: {
      isResponse: (bits & 0x8000) !== 0,
      opcode: (bits >> 11) & 15,
      authoritative: (bits & 0x0400) !== 0,
      truncated: (bits & 0x0200) !== 0,
      recursionDesired: (bits & 0x0100) !== 0,
      recursionAvailable: (bits & 0x0080) !== 0,
      rcode: bits & 15,
    },
    questions,
    answers: answers!,
    authorities: authorities!,
    additionals: additionals!,
  };
}

/** Reads a record in a message, and where what follows it begins. */
export function recordFromWire(wire: Buffer, start: number): { record: MessageRecord; end: number } {
  const { name, end: at } = nameFromWire(wire, start);
  const type = typeWord(wire.readUInt16BE(at));
  const length = wire.readUInt16BE(at + 8);
  const end = at + 10 + length;
  if (end > wire.length) throw new Error('a record is cut off');
  // An update names a type without data.
  const data = length === 0 ? Buffer.alloc(0) : expandData(type, wire, at + 10, length);
  const [of, ttl] = [wire.readUInt16BE(at + 2), wire.readUInt32BE(at + 4)];
  return { record: { name, type, class: of, ttl, data }, end };
}

/** What a server answered instead of doing what it was asked (RFC 1035, RFC 2136, RFC 8945). */
const rcodes: ReadonlyMap<number, string> = new Map([
  [0, 'NOERROR'],
  [1, 'FORMERR'],
  [2, 'SERVFAIL'],
  [3, 'NXDOMAIN'],
  [4, 'NOTIMP'],
  [5, 'REFUSED'],
  [6, 'YXDOMAIN'],
  [7, 'YXRRSET'],
  [8, 'NXRRSET'],
  [9, 'NOTAUTH'],
  [10, 'NOTZONE'],
  [16, 'BADSIG'],
  [17, 'BADKEY'],
  [18, 'BADTIME'],
  [22, 'BADTRUNC'],
]);

export function rcodeWord(rcode: number): string {
  return rcodes.get(rcode) ?? `RCODE${rcode}`;
}

import { type ByteString, textOf } from '../../bytes.js';
import { dataFromTokens } from '../records/data.js';
import { type DnsName, isWithin, parseName, sameName } from '../records/name.js';
import { type DnsRecord, setKeyOf } from '../records/record.js';
import { isSeconds, seconds } from '../records/seconds.js';
import { typeNumber, typeWord } from '../records/types.js';
import { type Entry, entriesOf, type PlacedWord, ZoneFileError } from './words.js';

/** A record of a zone file, with where it is written. */
export interface PlacedRecord extends DnsRecord {
  /** The file, as `$INCLUDE` names it; '' for the zone file itself. */
  readonly file: string;
  readonly entry: Entry;
  /** What completes relative names there. */
  readonly origin: DnsName;
  /** The words of it; undefined where they are left out. */
  readonly words: {
    readonly owner: PlacedWord | undefined;
    readonly ttl: PlacedWord | undefined;
    /** The first of class and type. */
    readonly kind: PlacedWord;
    readonly data: readonly PlacedWord[];
  };
  /** The record from which a line without an owner takes it. */
  readonly above: PlacedRecord | undefined;
  /** The TTL that the file gives it alone, and where that comes from. */
  readonly ttlThere: number;
  readonly ttlFrom: 'itself' | '$TTL' | 'the record before' | 'the SOA';
}

/** A zone file as it was read. */
export interface ZoneFile {
  readonly apex: DnsName;
  readonly records: readonly PlacedRecord[];
  /** Those too that do not belong into the zone, which servers leave out; in the order in which they are read. */
  readonly all: readonly PlacedRecord[];
  /** The files by the name under which they were included; '' is the zone file itself. */
  readonly texts: ReadonlyMap<string, ByteString>;
}

/** What is needed to read a zone file. */
export interface ZoneFileSource {
  readonly text: ByteString;
  /** The zone's name; where it is not given, the owner of the SOA is it. */
  readonly origin: DnsName | undefined;
  /** Gives a file that is included. @throws an Error where it may not be read */
  include(name: string): ByteString;
}

const mostIncludes = 20;

/**
 * Reads a zone file (RFC 1035, section 5; `$TTL` by RFC 2308, section 4; unknown types by RFC 3597).
 * @throws ZoneFileError with the line of what cannot be read, or of what is missing
 */
export function readZoneFile(source: ZoneFileSource): ZoneFile {
  const reader = new ZoneFileReader(source);
  reader.read('', source.text, 0);
  return reader.finished();
}

class ZoneFileReader {
  private readonly source: ZoneFileSource;
  private readonly texts = new Map<string, ByteString>();
  private readonly all: PlacedRecord[] = [];
  /** The TTL of each record set: that of its first record, as servers take it (RFC 2181, section 5.2). */
  private readonly ttls = new Map<string, number>();
  private origin: DnsName | undefined;
  private above: PlacedRecord | undefined;
  private defaultTtl: { readonly seconds: number; readonly from: '$TTL' | 'the SOA' } | undefined;
  private lastTtl: number | undefined;

  constructor(source: ZoneFileSource) {
    this.source = source;
    this.origin = source.origin;
  }

  read(file: string, text: ByteString, depth: number): void {
    this.texts.set(file, text);
    for (const entry of entriesOf(text)) {
      try {
        const [first] = entry.words;
        if (first!.text.startsWith('$') && !first!.quoted && !entry.blank) this.follow(entry, depth);
        else this.record(file, entry);
      } catch (error) {
        if (error instanceof ZoneFileError) throw error;
        throw new ZoneFileError(entry.line, where(file, (error as Error).message));
      }
    }
  }

  /** Does what a control entry says. */
  private follow({ words }: Entry, depth: number): void {
    const [directive, ...values] = words.map(({ text }) => text);
    const [first, second] = values;
    if (first === undefined) throw new Error(`${directive} names nothing`);
    switch (directive!.toUpperCase()) {
      case '$ORIGIN':
        this.origin = this.nameOf(first);
        break;
      case '$TTL':
        this.defaultTtl = { seconds: seconds(first), from: '$TTL' };
        break;
      case '$INCLUDE': {
        if (depth === mostIncludes) throw new Error('files include one another without end');
        const kept = { origin: this.origin, above: this.above };
        if (second !== undefined) this.origin = this.nameOf(second);
        const name = textOf(first);
        this.read(name, this.source.include(name), depth + 1);
        // RFC 1035, section 5.1: what an included file does to origin and owner ends with it.
        Object.assign(this, kept);
        break;
      }
      default:
        throw new Error(`${directive} is not known here`);
    }
  }

  private record(file: string, entry: Entry): void {
    const { words } = entry;
    const owner = entry.blank ? undefined : words[0];
    const name = owner ? this.nameOf(owner.text) : this.above?.name;
    if (!name) throw new Error('the first record names no owner');
    const head = headOf(words.slice(owner ? 1 : 0));
    const { type, ttl, data } = head;
    // Where nobody has named the zone, its SOA does.
    this.origin ??= name;
    const bytes = dataFromTokens(type, data, this.origin);
    const { time, from } = this.ttlOf(ttl, type, bytes);
    const set = setKeyOf({ name, type });
    if (!this.ttls.has(set)) this.ttls.set(set, time);
    this.above = {
      name,
      type,
      ttl: this.ttls.get(set)!,
      data: bytes,
      file,
      entry,
      origin: this.origin,
      words: { owner, ttl, kind: head.kind, data },
      above: this.above,
      ttlThere: time,
      ttlFrom: from,
    };
    this.all.push(this.above);
  }

  /** As written; else `$TTL`; else that of the record before (RFC 1035); else, of an SOA, its minimum. */
  private ttlOf(
    written: PlacedWord | undefined,
    type: string,
    data: Buffer,
  ): { time: number; from: PlacedRecord['ttlFrom'] } {
    if (written) {
      this.lastTtl = seconds(written.text);
      return { time: this.lastTtl, from: 'itself' };
    }
    if (this.defaultTtl) return { time: this.defaultTtl.seconds, from: this.defaultTtl.from };
    if (this.lastTtl !== undefined) return { time: this.lastTtl, from: 'the record before' };
    if (type !== 'SOA') throw new Error('no TTL is given, neither by $TTL nor by a record before');
    this.defaultTtl = { seconds: data.readUInt32BE(data.length - 4), from: 'the SOA' };
    return { time: this.defaultTtl.seconds, from: 'the SOA' };
  }

  private nameOf(text: string): DnsName {
    if (this.origin) return parseName(text, this.origin);
    const name = parseName(text);
    if (!text.endsWith('.')) throw new Error(`nothing says below which name "${text}" is`);
    return name;
  }

  finished(): ZoneFile {
    const soa = this.all.find(({ type }) => type === 'SOA');
    if (!soa) throw new ZoneFileError(1, 'it has no SOA record');
    const apex = soa.name;
    const others = this.all.filter(one => one.type === 'SOA' && one !== soa);
    if (others[0]) throw new ZoneFileError(others[0].entry.line, 'there is a second SOA record');
    if (this.source.origin && !sameName(apex, this.source.origin))
      throw new ZoneFileError(soa.entry.line, `its SOA is that of ${apex} and not of ${this.source.origin}`);
    const records = this.all.filter(({ name }) => isWithin(name, apex));
    return { apex, records, all: this.all, texts: this.texts };
  }
}

/** Class and TTL come before the type in either order, and either may be left out. */
function headOf(words: readonly PlacedWord[]): {
  ttl: PlacedWord | undefined;
  kind: PlacedWord;
  type: string;
  data: readonly PlacedWord[];
} {
  let ttl: PlacedWord | undefined;
  let isOfClass = false;
  let kind: PlacedWord | undefined;
  for (const [i, word] of words.entries()) {
    const { text } = word;
    if (!ttl && isSeconds(text)) ttl = word;
    else if (!isOfClass && /^(?:IN|CH|CS|HS|CLASS\d+)$/i.test(text)) {
      if (!/^(?:IN|CLASS1)$/i.test(text)) throw new Error(`the class ${text} is not that of the Internet`);
      isOfClass = true;
      kind ??= word;
    } else {
      const number = typeNumber(text);
      if (number === undefined) throw new Error(`${JSON.stringify(textOf(text))} is no type of a record`);
      return { ttl, kind: kind ?? word, type: typeWord(number), data: words.slice(i + 1) };
    }
  }
  throw new Error('a record without its type');
}

function where(file: string, message: string): string {
  return file === '' ? message : `in ${file}: ${message}`;
}

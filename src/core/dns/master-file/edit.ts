import { applyEdits, asBytes, type ByteString, type Edit } from '../../bytes.js';
import { dataToText } from '../records/data.js';
import { type DnsName, relativeName, sameName } from '../records/name.js';
import { type DnsRecord, recordKeyOf, setKeyOf } from '../records/record.js';
import { serialOf, withSerial } from '../zone/serial.js';
import { changedRecords, type SetChange, sameSet } from '../zone/set-change.js';
import { Zone } from '../zone/zone.js';
import { type PlacedRecord, readZoneFile, type ZoneFile } from './read.js';

/**
 * Carries out changes in a zone file, and raises its serial: only the lines of these records change, everything else
 * stays as it is to the byte.
 * @returns the files that change, by the name under which they are included; '' is the zone file itself
 * @throws an Error where a record set is not as the change saw it, or the lines cannot be changed without others
 */
export function editZoneFile(
  zone: ZoneFile,
  changes: readonly SetChange[],
  serial: number,
): Map<string, ByteString> {
  const expected = changedRecords(new Zone(zone.apex, zone.records), changes).map(record =>
    record.type === 'SOA' ? { ...record, data: withSerial(record.data, serial) } : record,
  );
  const editor = new ZoneFileEditor(zone);
  for (const change of changes) editor.change(change);
  const texts = editor.texts(serial);
  // Owners and TTLs that a line takes from the one before it: what comes out must be what was meant.
  const again = readZoneFile({
    text: texts.get('') ?? zone.texts.get('')!,
    origin: zone.apex,
    include: name => texts.get(name) ?? zone.texts.get(name)!,
  });
  if (!sameSet(again.records, expected, { ttl: true }))
    throw new Error('its lines depend on one another in a way that this change would break');
  return texts;
}

/** What becomes of a record's line. */
interface Fate {
  isGone?: boolean;
  data?: DnsRecord;
  ttl?: number;
  /** New lines after it. */
  followers?: readonly DnsRecord[];
}

class ZoneFileEditor {
  private readonly zone: ZoneFile;
  private readonly fates = new Map<PlacedRecord, Fate>();
  private readonly edits = new Map<string, Edit[]>();

  constructor(zone: ZoneFile) {
    this.zone = zone;
  }

  change({ name, type, after }: SetChange): void {
    const placed = this.zone.records.filter(record => setKeyOf(record) === setKeyOf({ name, type }));
    const wanted = new Map(after.map(record => [recordKeyOf(record), record]));
    const going = placed.filter(record => !wanted.delete(recordKeyOf(record)));
    const coming = [...wanted.values()];
    // A record that goes gives its line to one that comes.
    going.forEach((record, i) => {
      Object.assign(this.fateOf(record), coming[i] ? { data: coming[i] } : { isGone: true });
    });
    const [first] = after;
    if (first) for (const record of placed) this.fateOf(record).ttl = first.ttl;
    const added = coming.slice(going.length);
    if (added.length === 0) return;
    const beside = this.fateOf(placed.at(-1) ?? this.lastOf(name));
    beside.followers = [...(beside.followers ?? []), ...added];
  }

  private fateOf(record: PlacedRecord): Fate {
    const fate = this.fates.get(record) ?? {};
    this.fates.set(record, fate);
    return fate;
  }

  /** The record after which a new one of a name is written: the last of that name, otherwise of the zone file. */
  private lastOf(name: DnsName): PlacedRecord {
    const own = this.zone.records.filter(record => sameName(record.name, name));
    return own.at(-1) ?? this.zone.all.filter(({ file }) => file === '').at(-1) ?? this.zone.all.at(-1)!;
  }

  texts(serial: number): Map<string, ByteString> {
    // What a line takes from the one before it is written out where that is another one now.
    const owners = new Map<PlacedRecord | undefined, DnsName>();
    let ttl: number | undefined;
    for (const record of this.zone.all) {
      const fate = this.fates.get(record) ?? {};
      const above = owners.get(record.above);
      let owner = fate.isGone ? above : record.name;
      if (fate.isGone) this.edit(record.file, record.entry.start, record.entry.end, '');
      else {
        if (record.entry.blank && above !== record.name) this.putOwner(record);
        ttl = this.putTtl(record, fate.ttl ?? record.ttlThere, ttl);
        if (fate.data) this.putData(record, fate.data);
        if (record.type === 'SOA') this.putSerial(record, serial);
      }
      for (const follower of fate.followers ?? []) [owner, ttl] = [follower.name, follower.ttl];
      if (owner !== undefined) owners.set(record, owner);
      if (fate.followers) this.insert(fate.followers, record);
    }
    return new Map(
      [...this.edits].map(([file, edits]) => {
        const inOrder = edits.sort((a, b) => a.start - b.start || a.end - b.end);
        return [file, applyEdits(this.zone.texts.get(file)!, inOrder)];
      }),
    );
  }

  private putSerial(soa: PlacedRecord, serial: number): void {
    const { file, words, data } = soa;
    const { start, end } = words.data[2]!;
    if (serialOf(data) === serial) return;
    // Written in hex (RFC 3597), it has no word of its own.
    if (words.data[0]!.text === '\\#') this.putData(soa, { ...soa, data: withSerial(data, serial) });
    else this.edit(file, start, end, String(serial));
  }

  private putOwner({ file, entry, name, origin }: PlacedRecord): void {
    this.edit(file, entry.start, entry.start, relativeName(name, origin));
  }

  /** @param before the TTL that the line before gives @returns the one that it gives to the line after it */
  private putTtl(record: PlacedRecord, wanted: number, before: number | undefined): number | undefined {
    const { words, file, ttlFrom, ttlThere } = record;
    const { ttl, kind } = words;
    const inherited = ttlFrom === 'the record before' ? before : ttlThere;
    if (ttl ? ttlThere === wanted : inherited === wanted) return ttl ? wanted : before;
    if (ttl) this.edit(file, ttl.start, ttl.end, String(wanted));
    else this.edit(file, kind.start, kind.start, `${wanted} `);
    return wanted;
  }

  private putData({ file, words }: PlacedRecord, record: DnsRecord): void {
    const [start, end] = [words.data[0]!.start, words.data.at(-1)!.end];
    // A parenthesis that is opened among the words is closed after them.
    const between = outsideQuotes(this.zone.texts.get(file)!.slice(start, end));
    const open = between.split('(').length - between.split(')').length;
    this.edit(file, start, end, '( '.repeat(Math.max(0, open)) + dataToText(record.type, record.data));
  }

  /** Writes new lines after a record. */
  private insert(records: readonly DnsRecord[], { file, entry, origin }: PlacedRecord): void {
    const text = this.zone.texts.get(file)!;
    const newline = text.includes('\r\n') ? '\r\n' : '\n';
    const lines = records.map(({ name, type, ttl, data }) =>
      [relativeName(name, origin), ttl, 'IN', type, dataToText(type, data)].join('\t'),
    );
    const isEnded = text[entry.end - 1] === '\n';
    const put = (isEnded ? '' : newline) + lines.map(line => line + newline).join('');
    this.edit(file, entry.end, entry.end, put);
  }

  private edit(file: string, start: number, end: number, put: string): void {
    const edits = this.edits.get(file) ?? [];
    this.edits.set(file, edits);
    edits.push({ start, end, put: asBytes(put) });
  }
}

/** A piece of a zone file without what is in quotes and comments. */
function outsideQuotes(text: string): string {
  return text.replace(/"(?:[^"\\]|\\.)*"|;[^\n]*|\\./gs, '');
}

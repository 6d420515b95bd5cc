import { type DnsName, isWithin, sameName } from '../records/name.js';
import { type DnsRecord, recordKeyOf } from '../records/record.js';
import { dnsClass, type Message, rcodeWord } from './message.js';

/** A zone of a site has some dozens; one that never ends is stopped. */
const mostRecords = 2_000_000;

/**
 * Puts the messages of a zone transfer together (RFC 5936, section 2.2): the SOA, all other records, and the SOA again.
 */
export class TransferReader {
  readonly records: DnsRecord[] = [];
  private readonly zone: DnsName;
  private isWhole = false;

  constructor(zone: DnsName) {
    this.zone = zone;
  }

  /**
   * @returns whether the zone is whole
   * @throws an Error where the server refuses, or sends what is no transfer of the zone
   */
  push(message: Message): boolean {
    const { rcode } = message.flags;
    if (rcode !== 0) throw new Error(`it answers ${rcodeWord(rcode)}`);
    if (message.answers.length === 0) throw new Error('it answers without any record');
    for (const { name, type, ttl, data, class: of } of message.answers) {
      if (this.isWhole) throw new Error('it sends more after the end of the zone');
      const record = { name, type, ttl, data };
      const isSoa = type === 'SOA' && sameName(name, this.zone);
      const [first] = this.records;
      if (!first) {
        if (!isSoa) throw new Error('it does not begin with the SOA of the zone');
        this.records.push(record);
      } else if (isSoa) {
        if (recordKeyOf(record) !== recordKeyOf(first)) throw new Error('the zone changed while it was sent');
        this.isWhole = true;
      } else if (of === dnsClass.IN && isWithin(name, this.zone)) this.records.push(record);
      if (this.records.length > mostRecords) throw new Error('it sends records without end');
    }
    return this.isWhole;
  }
}

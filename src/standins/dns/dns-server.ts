import { bytesOfText, textOf } from '../../core/bytes.js';
import { readZoneFile } from '../../core/dns/master-file/read.js';
import {
  dnsClass,
  type Message,
  type MessageRecord,
  messageToWire,
  opcode,
} from '../../core/dns/message/message.js';
import { judgeRequest, signAnswer, signMessage, type TsigKey } from '../../core/dns/message/tsig.js';
import { targetOf, textOfTxt } from '../../core/dns/records/data.js';
import { type DnsName, isWithin, keyOf, sameName } from '../../core/dns/records/name.js';
import { type DnsRecord, recordKeyOf } from '../../core/dns/records/record.js';
import { withSerial } from '../../core/dns/zone/serial.js';
import { sameSet } from '../../core/dns/zone/set-change.js';
import { Zone } from '../../core/dns/zone/zone.js';
import { DnsListener } from './listener.js';

const rcode = { formErr: 1, nxDomain: 3, refused: 5, yxrrset: 7, nxrrset: 8, notAuth: 9 };
/** How many records of a transfer go into one message. */
const recordsInMessage = 100;

/** What a stand-in server is like. */
export interface DnsServerNature {
  /** Keys with which zones are transferred and updated; anybody may do both where there are none. */
  readonly keys?: readonly TsigKey[];
  /** Milliseconds by which its clock is wrong. */
  readonly skew?: number;
  /** Nobody may transfer or update. */
  readonly closed?: boolean;
  /** An address of this machine to listen at. */
  readonly host?: string;
}

/** A DNS server that simulates real ones, on a free loopback port: it answers, transfers, and takes updates. */
export class StandinDnsServer {
  /** How many updates have changed something. */
  updates = 0;
  private readonly nature: DnsServerNature;
  private readonly zones = new Map<DnsName, Zone>();
  private readonly listener: DnsListener;

  /** @param zones zone files */
  constructor(zones: readonly string[], nature: DnsServerNature = {}) {
    this.nature = nature;
    for (const text of zones) this.put(text);
    this.listener = new DnsListener((wire, message) => this.answer(wire, message), nature.host);
  }

  /** Starts to listen; gives its address with its port. */
  listen(): Promise<string> {
    return this.listener.listen();
  }

  close(): Promise<void> {
    return this.listener.close();
  }

  /** Puts a zone in place of the one that it has, as somebody at a panel does. */
  put(text: string): void {
    const refuse = (): never => {
      throw new Error('a stand-in has no other files');
    };
    const { apex, records } = readZoneFile({ text: bytesOfText(text), origin: undefined, include: refuse });
    this.zones.set(keyOf(apex), new Zone(apex, records));
  }

  /** The zone of a name as it is now. */
  zoneOf(name: DnsName): Zone | undefined {
    const within = [...this.zones.values()].filter(({ apex }) => isWithin(name, apex));
    return within.sort((a, b) => b.apex.length - a.apex.length)[0];
  }

  /** The texts of a name's TXT records. */
  textsOf(name: DnsName): string[] {
    const records = this.zoneOf(name)?.answer(name, 'TXT') ?? [];
    return records.filter(({ type }) => type === 'TXT').map(({ data }) => textOf(textOfTxt(data)));
  }

  private answer(wire: Buffer, message: Message): Buffer[] {
    const [question] = message.questions;
    const now = Math.floor((Date.now() + (this.nature.skew ?? 0)) / 1000);
    const judged = judgeRequest(wire, this.nature.keys ?? [], now);
    const sign = (answer: Message): Buffer => {
      const bare = messageToWire(answer);
      return judged ? signAnswer(bare, judged, now) : bare;
    };
    if (!question) return [sign(responseTo(message, rcode.formErr))];
    if (judged && judged.error !== 0) return [sign(responseTo(message, rcode.notAuth))];
    const isUpdate = message.flags.opcode === opcode.update;
    if (!isUpdate && question.type !== 'AXFR')
      return [sign(this.lookUp(message, question.name, question.type))];
    const zone = this.zones.get(keyOf(question.name));
    if (!zone) return [sign(responseTo(message, rcode.notAuth))];
    const mayNot = this.nature.closed || (this.nature.keys && !judged?.key);
    if (mayNot) return [sign(responseTo(message, rcode.refused))];
    if (isUpdate) return [sign(responseTo(message, this.update(zone, message)))];
    return transferOf(message, zone, judged?.key, judged?.mac, now);
  }

  /** What it answers to a question about a name. */
  lookUp(message: Message, name: DnsName, type: string): Message {
    const zone = this.zoneOf(name);
    if (!zone) return responseTo(message, rcode.refused);
    const away = zone.delegationAbove(name);
    if (away) {
      const glue = away.servers.flatMap(({ type: of, data }) => {
        const server = targetOf(of, data)!;
        return ['A', 'AAAA'].flatMap(kind => zone.set(server, kind));
      });
      return {
        ...responseTo(message, 0),
        authorities: away.servers.map(inClass),
        additionals: glue.map(inClass),
      };
    }
    const answers = followed(zone, name, type);
    const isThere = zone.has(name) || zone.wildcardFor(name) !== undefined;
    const soa = zone.soa && answers.length === 0 ? [inClass(zone.soa)] : [];
    const response = responseTo(message, isThere ? 0 : rcode.nxDomain);
    const flags = { ...response.flags, authoritative: true };
    return { ...response, flags, answers: answers.map(inClass), authorities: soa };
  }

  /** Does what an update says, all or nothing (RFC 2136, section 3). @returns the response code */
  private update(zone: Zone, { answers, authorities }: Message): number {
    const wanted = new Map<string, MessageRecord[]>();
    for (const one of answers) {
      const there = zone.set(one.name, one.type);
      if (one.class === dnsClass.NONE && there.length > 0) return rcode.yxrrset;
      if (one.class !== dnsClass.IN) continue;
      const key = `${keyOf(one.name)} ${one.type}`;
      wanted.set(key, [...(wanted.get(key) ?? []), one]);
    }
    for (const [first, ...others] of wanted.values())
      if (!sameSet([first!, ...others], zone.set(first!.name, first!.type))) return rcode.nxrrset;
    let records = [...zone.records];
    for (const one of authorities) {
      const isOfSet = (other: DnsRecord) => sameName(other.name, one.name) && other.type === one.type;
      if (one.class === dnsClass.ANY) records = records.filter(other => !isOfSet(other));
      else {
        records = records.filter(other => recordKeyOf(other) !== recordKeyOf(one));
        if (one.class === dnsClass.IN) records.push(one);
      }
    }
    const serial = ((zone.serial ?? 0) + 1) >>> 0;
    const raised = records.map(one =>
      one.type === 'SOA' ? { ...one, data: withSerial(one.data, serial) } : one,
    );
    this.zones.set(keyOf(zone.apex), new Zone(zone.apex, raised));
    this.updates++;
    return 0;
  }
}

const mostAliases = 8;

/** What a server answers, with the aliases that lead on within the zone. */
function followed(zone: Zone, name: DnsName, type: string): DnsRecord[] {
  const answers: DnsRecord[] = [];
  for (let at = name, i = 0; i < mostAliases; i++) {
    const found = zone.answer(at, type).map(one => ({ ...one, name: at }));
    answers.push(...found);
    const [first] = found;
    if (first?.type !== 'CNAME' || type === 'CNAME') break;
    at = targetOf('CNAME', first.data)!;
    if (!isWithin(at, zone.apex)) break;
  }
  return answers;
}

function inClass({ name, type, ttl, data }: DnsRecord): MessageRecord {
  return { name, type, ttl, data, class: dnsClass.IN };
}

export function responseTo({ id, flags, questions }: Message, code: number): Message {
  const answered = { ...flags, isResponse: true, rcode: code };
  return { id, flags: answered, questions, answers: [], authorities: [], additionals: [] };
}

/** A transfer (RFC 5936, section 2.2); every message of it is signed. */
function transferOf(
  question: Message,
  zone: Zone,
  key: TsigKey | undefined,
  mac: Buffer | undefined,
  now: number,
): Buffer[] {
  const soa = zone.soa!;
  const all = [soa, ...zone.records.filter(({ type }) => type !== 'SOA'), soa].map(inClass);
  const wires: Buffer[] = [];
  let prior = mac;
  let isFirst = true;
  for (let at = 0; at < all.length; at += recordsInMessage) {
    const answers = all.slice(at, at + recordsInMessage);
    const wire = messageToWire({ ...responseTo(question, 0), answers });
    if (!key) wires.push(wire);
    else {
      const signed = signMessage(wire, key, now, prior, 0, { timersOnly: !isFirst });
      wires.push(signed.wire);
      prior = signed.mac;
    }
    isFirst = false;
  }
  return wires;
}

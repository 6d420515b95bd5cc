import { setTimeout as pause } from 'node:timers/promises';
import pLimit from 'p-limit';
import { addressPath, formatAddress } from '../../core/address/address.js';
import { asBytes } from '../../core/bytes.js';
import { EndError, UsageError } from '../../core/errors.js';
import {
  type HatchAnswer,
  type HatchAsk,
  type HatchRequest,
  NotFromHatch,
  packed,
  readAnswer,
  requestBytes,
} from '../../core/hatch/exchange.js';
import { type HatchKeys, requestKey } from '../../core/hatch/keys.js';
import { BackOff } from '../back-off.js';
import { type HatchFacts, readFacts } from './facts.js';
import { installHatch } from './install.js';
import { PackingChoice } from './packing-choice.js';
import { type HatchPlace, isOfHatch, removeHatch } from './place.js';

/** How a request is asked. */
export interface HatchAsking {
  readonly data?: Buffer;
  readonly signal?: AbortSignal;
  /** Left out, it may be asked again where the answer does not come. */
  readonly isOnce?: boolean;
  /** Whether what is sent is worth packing, and a short answer. Of long ones it is found out. */
  readonly packs?: boolean;
}

/** A refusal of a hatch, with its word for the kind. */
export class HatchRefusal extends Error {
  readonly kind: string;
  readonly result: HatchAnswer['result'];

  constructor(result: HatchAnswer['result']) {
    super(String(result.why));
    this.kind = String(result.error);
    this.result = result;
  }
}

/** An answer that did not come: whether what was asked was done is not known. */
export class HatchSilent extends Error {}

/** Requests that are under way at once: cheap hosts run few PHP programs at a time. */
const atOnce = 4;
/** Bytes of a request that every server takes: 1 MB is the usual limit of some. */
const sureBytes = 900 * 1024;
/** Bytes that a request may unpack to: PHP holds them several times in its memory. */
const mostUnpacked = 4 * 1024 * 1024;
const leastAtOnce = 64 * 1024;
/** Bytes of a text at three places, from which it is estimated how it packs. */
const sampleBytes = 4096;
/** The least share of a slice that is asked for. */
const leastShare = 1 / 32;
const answerBytes = 48 * 1024 * 1024;
/** So long a slice works, in seconds, before anything is known of the server's patience. */
const firstSeconds = 3;

/** Speaks to a hatch: puts it there when it is first needed, and takes it away at the end. */
export class Hatch {
  report: (text: string) => void = () => {};
  private readonly place: HatchPlace;
  private readonly limit = pLimit(atOnce);
  private opened: Promise<OpenHatch> | undefined;
  /** The address at which a hatch answers that was taken away. */
  private answering: string | undefined;
  /** How much of what is asked for comes at once, 0 to 1: less over a line that breaks. */
  private share = 1;
  /** Seconds that a slice works. */
  private seconds = firstSeconds;
  private packs = false;
  private readonly packing = new PackingChoice();

  constructor(place: HatchPlace) {
    this.place = place;
  }

  /** Bytes of data that go with one request, as they are sent. */
  get requestBytes(): number {
    return sureBytes;
  }

  /** The same for what should be done within one request: less over a line that breaks. */
  get bytesAtOnce(): number {
    return Math.max(leastAtOnce, sureBytes * this.share);
  }

  /** How many bytes of a request a text takes, as far as a sample tells. */
  weightOf(text: string): number {
    if (!this.packs || text.length < 4 * sampleBytes) return text.length;
    const places = [0, text.length / 2 - sampleBytes / 2, text.length - sampleBytes].map(Math.floor);
    const samples = places.map(at => Buffer.from(text.slice(at, at + sampleBytes), 'latin1'));
    const share = packed(Buffer.concat(samples)).length / (places.length * sampleBytes);
    return Math.ceil(text.length * Math.max(share * 1.2, sureBytes / mostUnpacked));
  }

  get atOnce(): number {
    return atOnce;
  }

  async facts(): Promise<HatchFacts> {
    return (await this.open()).facts;
  }

  /**
   * Asks for one thing.
   * @throws HatchRefusal where the hatch does not do it
   * @throws HatchSilent where it is asked once and no answer comes
   * @throws PartWayError where it does not answer any more
   */
  async ask(ask: HatchAsk, asking: HatchAsking = {}): Promise<HatchAnswer> {
    const open = await this.open();
    return this.limit(() => this.askOpen(open, ask, asking));
  }

  /**
   * A request that another hatch asks in the place of this program, and what that one needs to believe the answer. It is good
   * for this request alone.
   */
  async signed(ask: HatchAsk, data: Buffer): Promise<SignedRequest> {
    const open = await this.open();
    const { site, isPlain } = this.place;
    const request = this.requestOf(open, ask, data, false);
    const seal = isPlain ? requestKey(open.keys.secret, 'seal', request.number).toString('base64') : '';
    return {
      bytes: requestBytes(open.keys, request),
      url: `${site.reached}${addressPath(site.address)}/${open.name}.php`,
      host: new URL(formatAddress(site.address)).host,
      scheme: site.address.scheme,
      pin: site.pinned ?? '',
      proof: requestKey(open.keys.secret, 'reply', request.number).toString('base64'),
      seal,
    };
  }

  /** Takes the hatch away. */
  async close(): Promise<void> {
    const { opened } = this;
    this.opened = undefined;
    const open = await opened?.catch(() => undefined);
    if (!open) return;
    await this.askOpen(open, { do: 'end' }, { isOnce: true }).catch(() => {});
    const address = `${this.place.site.reached}/${open.name}.php`;
    const answers = this.answers(open);
    await removeHatch(this.place, open.name);
    // Where FTP had to remove it, it may have answered until then.
    const stillAnswers = (await answers) && (await this.answers(open));
    this.answering = stillAnswers ? address : undefined;
    await this.place.site.close();
  }

  /** Removes what runs before this one left. */
  async removeLeft(): Promise<void> {
    for (const name of await this.place.left()) await removeHatch(this.place, name);
  }

  /**
   * What of hatches is in the web root or above it, as the account that puts them there sees it; and the one of this run, where
   * it still answers what is signed.
   */
  async remains(signal: AbortSignal): Promise<string[]> {
    const found: string[] = [];
    const { folder, above } = this.place;
    for (const end of [folder, above]) {
      const inFolder = end.list(({ path }) => path.includes('/') || !isOfHatch(path), signal);
      for await (const { path } of inFolder) if (isOfHatch(path)) found.push(`${end.place}/${path}`);
    }
    return this.answering === undefined ? found : [...found, this.answering];
  }

  private open(): Promise<OpenHatch> {
    this.opened ??= this.install().catch(error => {
      this.opened = undefined;
      throw error;
    });
    return this.opened;
  }

  private async install(): Promise<OpenHatch> {
    const { place } = this;
    await this.removeLeft();
    const signal = AbortSignal.timeout(60_000);
    const { name, keys, skew } = await installHatch(place, signal);
    const bare: OpenHatch = { name, keys, skew, facts: undefined as never, number: Date.now() };
    try {
      const { result } = await this.askOpen(bare, { do: 'facts' }, {});
      const facts = readFacts(result);
      this.packs = facts.packs;
      this.report(
        `A hatch is at the ${place.end} site (PHP ${facts.php}); it is taken away when this command ends`,
      );
      return Object.assign(bare, { facts });
    } catch (error) {
      await removeHatch(place, name);
      throw error;
    }
  }

  private async askOpen(open: OpenHatch, ask: HatchAsk, asking: HatchAsking): Promise<HatchAnswer> {
    const { site } = this.place;
    const backOff = new BackOff(site.address.host);
    for (;;) {
      asking.signal?.throwIfAborted();
      const began = performance.now();
      try {
        const answer = await this.askNow(open, ask, asking);
        this.share = Math.min(1, this.share * 1.1);
        return answer;
      } catch (error) {
        asking.signal?.throwIfAborted();
        if (error instanceof HatchRefusal || error instanceof UsageError || error instanceof EndError)
          throw error;
        // A server that ended a slice in the middle has less patience than was thought.
        if (performance.now() - began > 1000 * this.seconds * 0.8)
          this.seconds = Math.max(0.5, this.seconds / 2);
        this.share = Math.max(leastShare, this.share / 2);
        if (asking.isOnce) throw new HatchSilent((error as Error).message, { cause: error });
        await backOff.wait(this.report, error);
      }
    }
  }

  private async askNow(
    open: OpenHatch,
    ask: HatchAsk,
    { data = Buffer.alloc(0), signal, packs = false }: HatchAsking,
  ): Promise<HatchAnswer> {
    const { site } = this.place;
    const began = performance.now();
    const isLong = typeof ask.bytes === 'number';
    const packsAnswer = isLong ? this.packing.next() : packs;
    const request = this.requestOf(open, { ...ask, pack: packsAnswer && this.packs }, data, packs);
    const { status, content } = await site.get(`/${open.name}.php`, signal ?? AbortSignal.timeout(60_000), {
      bytes: requestBytes(open.keys, request),
      most: answerBytes,
      isOneHop: true,
    });
    if (status === 413) throw this.tooLong();
    if (status === 404 || status === 403) {
      // It may be gone, or busy at refusing; the folder says which.
      await pause(200);
      if (!(await this.place.folder.entry(asBytes(`${open.name}.php`)))) throw this.gone();
    }
    if (status !== 200) throw new NotFromHatch(`the server answers ${status}`);
    const answer = readAnswer(open.keys, request, content);
    if (answer.result.error !== undefined) throw new HatchRefusal(answer.result);
    const seconds = (performance.now() - began) / 1000;
    if (isLong) this.packing.came(packsAnswer, answer.data.length, seconds);
    return answer;
  }

  /** Whether what is signed is answered. */
  private async answers(open: OpenHatch): Promise<boolean> {
    const request = this.requestOf(open, { do: 'facts' }, Buffer.alloc(0), false);
    try {
      const asked = { bytes: requestBytes(open.keys, request), most: answerBytes, isOneHop: true };
      const { content } = await this.place.site.get(`/${open.name}.php`, AbortSignal.timeout(20_000), asked);
      readAnswer(open.keys, request, content);
      return true;
    } catch {
      return false;
    }
  }

  private requestOf(open: OpenHatch, ask: HatchAsk, data: Buffer, packs: boolean): HatchRequest {
    return {
      hatch: open.name,
      number: open.number++,
      time: Date.now() / 1000 + open.skew,
      ask: {
        ...ask,
        ...(typeof ask.bytes === 'number' ? { bytes: Math.ceil(ask.bytes * this.share) } : {}),
        seconds: this.seconds,
      },
      data,
      packs: packs && this.packs,
      seals: this.place.isPlain,
    };
  }

  private gone(): EndError {
    return new EndError({
      doing: `Asking the hatch at the ${this.place.end} site`,
      kind: 'not found',
      cause: 'it is not there any more: its time is over, or somebody or something at the host removed it',
      remedy: 'Run the command again, which puts a new one there; a scanner at the host may have to be told',
    });
  }

  private tooLong(): EndError {
    return new EndError({
      doing: `Asking the hatch at the ${this.place.end} site`,
      kind: 'refused',
      cause: 'the web server takes no requests of 1 MB',
      remedy: 'Raise its limit (client_max_body_size, LimitRequestBody), or leave the hatch out',
    });
  }
}

/** See `Hatch.signed`. Keys are in Base64. */
export interface SignedRequest {
  readonly bytes: Buffer;
  readonly url: string;
  readonly host: string;
  readonly scheme: string;
  /** The fingerprint of a certificate that nobody vouches for: SHA-256 as hex. */
  readonly pin: string;
  readonly proof: string;
  readonly seal: string;
}

/** A hatch that is there, and how it is spoken to. */
interface OpenHatch {
  readonly name: string;
  readonly keys: HatchKeys;
  /** The hatch's clock less this machine's, in seconds. */
  readonly skew: number;
  readonly facts: HatchFacts;
  number: number;
}

import { createHash, randomBytes } from 'node:crypto';
import { appendFileSync } from 'node:fs';
import { type FileHandle, mkdir, open, readFile, rm, stat, writeFile } from 'node:fs/promises';
import { Agent, request as httpRequest, type IncomingMessage } from 'node:http';
import { join } from 'node:path';
import type { Duplex } from 'node:stream';
import { PorterError } from '../../core/errors.js';
import { partBytes, Received } from '../../core/handover/received.js';
import { sizeText } from '../../core/text/sizes.js';
import { BackOff } from '../back-off.js';
import { sumAside } from '../files/sums.js';
import { toPorterError, whileDoing } from '../system-errors.js';
import { writeAllAt } from '../whole-file.js';
import { WrongCertificate } from './connection.js';
import { nobodyWaits, otherHost, refusal, shortened, unfinished } from './refusals.js';

/** Requests that are under way at once. */
const atOnce = 4;
/** So much is read again at a time, in bytes. */
const readBytes = 256 * 1024;
/** So much of a part is written, and noted, at a time, in bytes. */
const keepBytes = 1024 * 1024;
/** So long nothing may come, in milliseconds: the other end may wait for its own pack. */
const silence = 30_000;

/** What is known of what is offered. */
interface Offered {
  readonly bytes: number;
  readonly isWhole: boolean;
}

/** Where the bytes of a crate come from. */
export interface Source {
  /** Opens a connection to the one who offers. */
  connect(): Promise<Duplex>;
  readonly secret: string;
  /** Who offers, for messages. */
  readonly text: string;
}

export interface CollectingEvents {
  progress?(bytes: number, of: number | undefined): void;
  say?(text: string): void;
}

/**
 * Fetches what is offered into a file, several parts at a time, each verified by its SHA-256. What has come is noted in a
 * folder, so that another run resumes it.
 */
export class Collecting {
  private readonly file: string;
  private readonly folder: string;
  private readonly source: Source;
  private readonly signal: AbortSignal;
  private readonly events: CollectingEvents;
  private readonly agent: Agent;
  private collector = '';
  private received = new Received([]);
  private readonly backOff: BackOff;
  /** What had come when the line was lost last. */
  private before = 0;
  private bytes = 0;
  private isWhole = false;
  private failure: unknown;
  private wasIn = false;
  /** Those that wait for more. */
  private waiting: (() => void)[] = [];
  /** Bytes that came, also those that came twice. */
  came = 0;

  constructor(folder: string, source: Source, signal: AbortSignal, events: CollectingEvents = {}) {
    this.folder = folder;
    this.file = join(folder, 'crate.tar');
    this.source = source;
    this.signal = signal;
    this.events = events;
    this.agent = agentOf(source);
    this.backOff = new BackOff(source.text);
  }

  /** Fetches all of it. */
  async fetch(): Promise<void> {
    let file: FileHandle | undefined;
    try {
      await this.open();
      file = await open(this.file, 'r+');
      const into = file;
      await this.look();
      let next = 0;
      const work = async () => {
        const room = Buffer.allocUnsafeSlow(partBytes);
        for (let part = next++; await this.isPart(part); part = next++)
          if (!this.received.isWhole(part)) await this.fetchPart(part, into, room);
      };
      await Promise.all(Array.from({ length: atOnce }, work));
    } catch (error) {
      this.failure = error;
      throw error;
    } finally {
      this.wake();
      await file?.close();
    }
  }

  /** What has come and was verified, from the beginning on, while the rest comes. */
  async *content(): AsyncIterable<Buffer> {
    let file: FileHandle | undefined;
    try {
      for (let at = 0; !this.isWhole || at < this.bytes; ) {
        if (this.failure !== undefined) throw this.failure;
        const end = this.reached(at);
        if (at === end) {
          await new Promise<void>(resolve => this.waiting.push(resolve));
          continue;
        }
        file ??= await open(this.file, 'r');
        const buffer = Buffer.allocUnsafeSlow(Math.min(readBytes, end - at));
        const { bytesRead } = await file.read(buffer, 0, buffer.length, at);
        if (bytesRead === 0) throw shortened(this.file);
        yield buffer.subarray(0, bytesRead);
        at += bytesRead;
      }
    } finally {
      await file?.close();
    }
  }

  /** Up to where all parts are whole from a place on. */
  private reached(at: number): number {
    let part = Math.floor(at / partBytes);
    while (this.received.isWhole(part)) part++;
    return Math.max(at, Math.min(part * partBytes, this.bytes));
  }

  private wake(): void {
    const { waiting } = this;
    this.waiting = [];
    for (const wake of waiting) wake();
  }

  /** Removes what has come; the same collector may begin again. */
  async forget(): Promise<void> {
    await rm(this.file, { force: true });
    await rm(this.parts, { force: true });
  }

  /** Says that it is all here, and ends the connections. */
  async done(): Promise<void> {
    await this.ask('POST', '/done').then(drained, () => {});
    this.close();
    await rm(this.folder, { recursive: true, force: true });
  }

  close(): void {
    this.agent.destroy();
  }

  private async open(): Promise<void> {
    const doing = `Collecting into ${this.folder}`;
    await whileDoing(doing, () => mkdir(this.folder, { recursive: true, mode: 0o700 }));
    // By this, and the ticket, the other end knows who comes again.
    const owner = join(this.folder, 'collector');
    const own = createHash('sha256').update(this.source.secret).digest('hex').slice(0, 16);
    const before = await readFile(owner, 'utf8').catch(() => '');
    const lines = (await readFile(this.parts, 'utf8').catch(() => '')).split('\n');
    this.received = new Received(lines);
    if (!before.startsWith(`${own} `)) {
      await whileDoing(doing, async () => {
        // What another ticket has brought may be of this crate too: the checksums of its parts say.
        await writeFile(this.parts, this.received.doubt(), { mode: 0o600 });
        await writeFile(owner, `${own} ${randomBytes(16).toString('hex')}`, { mode: 0o600 });
      });
      const { bytes } = this.received;
      if (bytes > 0)
        this.events.say?.(
          `${sizeText(bytes)} have come with an earlier ticket; what fits is not fetched again`,
        );
    }
    this.collector = (await readFile(owner, 'utf8')).split(' ')[1]!;
    await whileDoing(doing, async () => (await open(this.file, 'a', 0o600)).close());
    // Where the file has become shorter, what it has lost comes again.
    const { size } = await whileDoing(doing, () => stat(this.file));
    for (const part of this.received.beyond(size)) this.note(part, 0, 'again');
  }

  private get parts(): string {
    return join(this.folder, 'parts');
  }

  /** Whether there is such a part; waits while the crate grows. */
  private async isPart(part: number): Promise<boolean> {
    while (!this.isWhole && this.bytes < (part + 1) * partBytes) {
      this.signal.throwIfAborted();
      await this.look();
      if (!this.isWhole) await new Promise(resolve => setTimeout(resolve, 300));
    }
    return part * partBytes < this.bytes;
  }

  private async look(): Promise<void> {
    const answer = await this.again(
      async () => JSON.parse(String(await drained(await this.ask('GET', '/state')))) as Offered,
    );
    this.bytes = answer.bytes;
    this.isWhole = answer.isWhole;
    this.wake();
  }

  /** @param room for the part in memory */
  private async fetchPart(part: number, file: FileHandle, room: Buffer): Promise<void> {
    while (!this.received.isWhole(part)) await this.again(() => this.tryPart(part, file, room));
  }

  /** Fetches what is missing of a part; where what was there does not fit, none of it counts after that. */
  private async tryPart(part: number, file: FileHandle, room: Buffer): Promise<void> {
    const begin = part * partBytes;
    const there = Math.min(this.received.of(part), room.length);
    const had = (await file.read(room, 0, there, begin)).bytesRead;
    let [at, kept] = [had, had];
    const keep = async () => {
      if (at === kept) return;
      await whileDoing(`Writing ${this.file}`, () => writeAllAt(file, room.subarray(kept, at), begin + kept));
      kept = at;
      this.note(part, at);
      const of = this.isWhole ? this.bytes : undefined;
      this.events.progress?.(Math.min(this.received.bytes, of ?? Number.POSITIVE_INFINITY), of);
    };
    const answer = await this.ask('GET', `/part?part=${part}&from=${at}`);
    try {
      for await (const chunk of answer as AsyncIterable<Buffer>) {
        if (at + chunk.length > room.length) throw new Error('the answer is longer than a part');
        at += chunk.copy(room, at);
        this.came += chunk.length;
        if (at - kept >= keepBytes) await keep();
      }
    } finally {
      // What has come before the line is lost is not lost with it.
      await keep();
    }
    const said = /^sha-256=:(.+):$/.exec(String(answer.trailers['content-digest']))?.[1];
    if (said === undefined) throw new Error('the answer ended early');
    const isRight = (await sumAside(room.subarray(0, at))) === Buffer.from(said, 'base64').toString('hex');
    this.note(part, isRight ? at : 0, isRight ? 'whole' : 'again');
    this.wake();
    if (!isRight && had === 0) throw new Error('a part is not what it was when it was sent');
  }

  private note(part: number, bytes: number, end?: string): void {
    const line = this.received.take(part, bytes, end);
    try {
      appendFileSync(this.parts, line);
    } catch (error) {
      throw toPorterError(error, `Writing ${this.parts}`);
    }
  }

  /** Does something again when the connection is lost, for as long as the other end comes back. */
  private async again<T>(work: () => Promise<T>): Promise<T> {
    for (;;) {
      this.signal.throwIfAborted();
      try {
        return await work();
      } catch (error) {
        this.signal.throwIfAborted();
        // What is wrong here, or was refused there, is not a matter of the line.
        if (error instanceof PorterError) throw error;
        if (error instanceof WrongCertificate) throw otherHost(error.message);
        if (!this.wasIn && (error as NodeJS.ErrnoException).code === 'ECONNREFUSED')
          throw nobodyWaits(this.source.text);
        // As long as something comes, it is worth going on.
        if (this.received.bytes > this.before) this.backOff.reset();
        this.before = this.received.bytes;
        await this.backOff.wait(text => this.events.say?.(text), error);
      }
    }
  }

  /** @throws EndError where the ticket is not taken */
  private async ask(method: string, path: string): Promise<IncomingMessage> {
    const { source, agent, collector, signal } = this;
    const headers = { authorization: `Bearer ${source.secret}`, 'x-collector': collector };
    const answer = await new Promise<IncomingMessage>((resolve, reject) => {
      const asked = httpRequest({ agent, method, path, headers, signal, host: 'offer' }, resolve);
      asked.setTimeout(silence, () => asked.destroy(new Error('nothing came for half a minute')));
      asked.once('error', reject).end();
    });
    this.wasIn = true;
    if (answer.statusCode === 200) return answer;
    const why = String(await drained(answer));
    if (answer.statusCode === 401 || answer.statusCode === 403) throw refusal('Collecting the crate', why);
    if (answer.statusCode === 500) throw unfinished();
    throw new Error(`the other end answers ${answer.statusCode}`);
  }
}

/** An agent that uses the connections of a source. */
function agentOf(source: Source): Agent {
  const agent = new Agent({ keepAlive: true, maxSockets: atOnce });
  agent.createConnection = (_options, made) => {
    source.connect().then(
      socket => made?.(null, socket),
      error => made?.(error, undefined as never),
    );
    return undefined;
  };
  return agent;
}

async function drained(answer: IncomingMessage): Promise<Buffer> {
  const chunks: Buffer[] = [];
  for await (const chunk of answer as AsyncIterable<Buffer>) chunks.push(chunk);
  return Buffer.concat(chunks);
}

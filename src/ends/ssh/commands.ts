import { once } from 'node:events';
import { pipeline } from 'node:stream/promises';
import type { ClientChannel } from 'ssh2';
import { extract, pack } from 'tar-stream';
import { asBytes, type ByteString, bytesOf, bytesOfText, textOf } from '../../core/bytes.js';
import { PorterError } from '../../core/errors.js';
import { elsewhere, folderOf, type ListedEntry, staysInside } from '../../core/files/entries.js';
import { ConnectionLost } from '../connection-lost.js';
import { chunksOf, type FileToWrite } from '../content.js';
import { toSftpError } from './requests.js';
import type { SshSession } from './session.js';

/** The latest time that there is, in milliseconds (ECMA-262, section 21.4.1.1); a far side may report any. */
const latest = 8.64e15;

/** Bytes that are taken of a listing: those of some 20,000 files. */
const mostFound = 2 << 20;

/** What commands at the far side do with the files of a folder there, where the account has a shell. */
export class FarCommands {
  private readonly session: SshSession;
  /** The folder, as a word of the shell. */
  private readonly root: string;
  /** Gives files as a stream once it is reported their names. */
  private readonly taking: string;
  private readonly begun: Promise<ClientChannel>[] = [];

  /** @param root its absolute path at the far side */
  constructor(session: SshSession, root: string) {
    this.session = session;
    this.root = quoted(root);
    this.taking = `cd ${this.root} && tar -cf - --no-recursion --null -T -`;
  }

  /**
   * Everything below, by folder; undefined where `find` is not there, cannot tell it, or not look everywhere, and where
   * it gives more than is to be kept in memory.
   */
  async find(): Promise<Map<ByteString, ListedEntry[]> | undefined> {
    // Asking first what may be run would cost a round trip; the mark shows that a shell ran it.
    const command = `printf 'sh\\0'; cd ${this.root} && find . -mindepth 1 -printf '%y %s %m %T@ %P\\0%l\\0'`;
    const { code, out } = await this.session.runAsking(command, { most: mostFound }).catch(error => {
      if (error instanceof PorterError) throw error;
      return { code: -1, out: Buffer.alloc(0) };
    });
    const found = bytesOf(out);
    const mark = found.indexOf('sh\0');
    return code === 0 && mark >= 0 ? readFind(asBytes(found.slice(mark + 3))) : undefined;
  }

  /** Removes a folder with all in it; gives whether a command could. */
  async removeTree(path: ByteString): Promise<boolean> {
    const command = `cd ${this.root} && rm -rf -- ${quoted(textOf(asBytes(`./${path}`)))}`;
    return (await this.session.run(command)).code === 0;
  }

  /** SHA-256 of files, in hex, by path; of what the commands could not read, nothing. */
  async sums(paths: readonly ByteString[]): Promise<Map<ByteString, string>> {
    // It uses what a processor has for this, and so takes a third of the time; but names may not break its lines.
    const fast = await this.session.has('openssl');
    const first = fast ? paths.filter(path => !/[\n\\]/.test(path)) : [];
    const found = await this.sumsBy('openssl dgst -sha256 -r', '\n', first);
    const rest = paths.filter(path => !found.has(path));
    const more = (await this.session.has('sha256sum')) ? rest : [];
    return new Map([...found, ...(await this.sumsBy('sha256sum -z --', '\0', more))]);
  }

  private async sumsBy(
    program: string,
    end: string,
    paths: readonly ByteString[],
  ): Promise<Map<ByteString, string>> {
    const sums = new Map<ByteString, string>();
    if (paths.length === 0) return sums;
    const names = namesOf(paths);
    const command = `cd ${this.root} && xargs -0 ${program}`;
    const { out } = await this.session.run(command, { input: () => chunksOf(names) });
    for (const line of out.toString('latin1').split(end)) {
      const [, sum, path] = /^([0-9a-f]{64}) [ *]\.\/(.*)$/s.exec(line) ?? [];
      if (sum && path !== undefined) sums.set(asBytes(path), sum);
    }
    return sums;
  }

  /** Files as one stream, each to be read before the next comes; undefined where there is no `tar`. */
  async tar(
    paths: readonly ByteString[],
    signal: AbortSignal,
  ): Promise<AsyncIterable<{ path: ByteString; content: AsyncIterable<Buffer> }> | undefined> {
    if (!(await this.session.has('tar'))) {
      this.endBegun();
      return undefined;
    }
    const channel = await this.stream();
    channel.stderr.resume();
    channel.end(namesOf(paths));
    return entriesOf(channel, signal);
  }

  /**
   * Begins with streams that may soon be asked for, before it is known what programs there are.
   * @returns what ends those that were not
   */
  beginTar(streams: number): () => void {
    for (let i = 0; i < streams; i++) {
      const channel = this.session.start(this.taking);
      channel.catch(() => {});
      this.begun.push(channel);
    }
    return () => this.endBegun();
  }

  private endBegun(): void {
    for (const channel of this.begun.splice(0))
      channel.then(
        one => one.destroy(),
        () => {},
      );
  }

  /** One that was begun with, if any is left, or another. */
  private async stream(): Promise<ClientChannel> {
    for (let next = this.begun.shift(); next; next = this.begun.shift()) {
      const channel = await next.catch(() => undefined);
      if (channel && !channel.destroyed) return channel;
    }
    return this.session.start(this.taking);
  }

  /**
   * Unpacks a stream of files at the far side; gives whether there is a `tar` that can.
   * @throws ConnectionLost where the connection went, otherwise an error with what it said
   */
  async untar(files: AsyncIterable<FileToWrite>, doing: string, signal: AbortSignal): Promise<boolean> {
    if (!(await this.session.has('tar'))) return false;
    const channel = await this.session.start(`cd ${this.root} && tar -xpf -`);
    const said: Buffer[] = [];
    channel.stderr.on('data', (chunk: Buffer) => said.push(chunk));
    channel.resume();
    const ended = new Promise<number>(resolve => {
      let code = -1;
      channel.on('exit', (given: number | null) => {
        code = given ?? -1;
      });
      channel.on('close', () => resolve(code)).on('error', () => resolve(-1));
    });
    const packed = pack();
    let broken = false;
    // The result of the command is reported below.
    const piped = pipeline(packed, channel, { signal }).catch(() => {
      broken = true;
    });
    for await (const { entry, content } of files) {
      signal.throwIfAborted();
      if (broken) break;
      const header = {
        name: textOf(entry.path),
        type: entry.type === 'folder' ? ('directory' as const) : ('file' as const),
        size: entry.size,
        mode: entry.mode,
        mtime: new Date(entry.mtime),
      };
      const writer = packed.entry(header) as unknown as NodeJS.WritableStream;
      writer.on('error', () => {});
      for await (const chunk of chunksOf(content)) {
        if (broken) break;
        if (!writer.write(chunk)) await Promise.race([once(writer, 'drain').catch(() => {}), piped]);
      }
      writer.end();
    }
    packed.finalize();
    await piped;
    if ((await ended) === 0) return true;
    const why = Buffer.concat(said).toString().split('\n')[0]!;
    if (why === '') throw new ConnectionLost(`${doing}: the connection was lost`);
    const code = /no space left/i.test(why) ? 14 : /quota/i.test(why) ? 15 : 4;
    throw toSftpError(Object.assign(new Error(why), { code }), doing);
  }
}

/** The content of a file in a stream. Where it ends early, the connection went; who writes it is not to blame. */
async function* whileLinked(content: AsyncIterable<Buffer>): AsyncIterable<Buffer> {
  const chunks = content[Symbol.asyncIterator]();
  for (;;) {
    const { value, done } = await chunks.next().catch(cause => {
      throw new ConnectionLost('the stream of files ended early', { cause });
    });
    if (done) return;
    yield value;
  }
}

function namesOf(paths: readonly ByteString[]): Buffer {
  return Buffer.from(paths.map(path => `./${textOf(path)}\0`).join(''));
}

/** The letters of `find -printf %y`. */
const findTypes: Readonly<Record<string, ListedEntry['type']>> = {
  f: 'file',
  d: 'folder',
  l: 'link',
  p: 'special',
  s: 'special',
  b: 'special',
  c: 'special',
};

/** Reads what `find` printed: kind, size, mode, time and path of each thing, and where it points. */
function readFind(out: ByteString): Map<ByteString, ListedEntry[]> {
  const found = new Map<ByteString, ListedEntry[]>();
  // Cut off one by one: there may be a million.
  let at = 0;
  const next = () => {
    const end = out.indexOf('\0', at);
    const part = end < 0 ? undefined : out.slice(at, end);
    at = end + 1;
    return part;
  };
  for (let part = next(); part !== undefined; part = next()) {
    const target = next();
    if (target === undefined) break;
    const [, kind, size, mode, seconds, path] = /^(\w) (\d+) (\d+) (-?\d+)\S* (.*)$/s.exec(part) ?? [];
    const type = findTypes[kind ?? ''];
    if (!type || !path) continue;
    if (!staysInside(path)) {
      found.set(asBytes(''), [...(found.get(asBytes('')) ?? []), elsewhere(asBytes(path))]);
      continue;
    }
    const entry: ListedEntry = {
      path: asBytes(path),
      type,
      size: type === 'file' ? Number(size) : 0,
      mode: Number.parseInt(mode!, 8),
      mtime: Math.max(-latest, Math.min(latest, Number(seconds) * 1000)),
      to: type === 'link' ? asBytes(target) : undefined,
    };
    const folder = folderOf(entry.path);
    const list = found.get(folder);
    if (list) list.push(entry);
    else found.set(folder, [entry]);
  }
  return found;
}

/** The files of a tar stream, each to be read before the next comes. */
async function* entriesOf(
  stream: NodeJS.ReadableStream,
  signal: AbortSignal,
): AsyncIterable<{ path: ByteString; content: AsyncIterable<Buffer> }> {
  const unpacked = extract();
  const piped = pipeline(stream, unpacked, { signal });
  // Its error comes out of the entries as well.
  piped.catch(() => {});
  for await (const entry of unpacked) {
    const path = bytesOfText(entry.header.name.replace(/^\.\//, ''));
    if (entry.header.type === 'file')
      yield { path, content: whileLinked(entry as unknown as AsyncIterable<Buffer>) };
    entry.resume();
  }
  await piped;
}

/** A path as one word of a shell's command. */
function quoted(path: string): string {
  return `'${path.replaceAll("'", "'\\''")}'`;
}

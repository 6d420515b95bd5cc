import pMap from 'p-map';
import { asBytes, type ByteString, bufferOf, textOf } from '../../../core/bytes.js';
import { DamageError, isNotFound, UsageError } from '../../../core/errors.js';
import {
  elsewhere,
  type FileEntry,
  isTakable,
  type ListedEntry,
  staysInside,
} from '../../../core/files/entries.js';
import { readTar, tarBytes } from '../../../core/files/tar.js';
import type { HatchAnswer, HatchAsk } from '../../../core/hatch/exchange.js';
import { readEntries, readListing } from '../../../core/hatch/listing.js';
import { type Content, chunksOf, type FileToWrite } from '../../content.js';
import { type Hatch, type HatchAsking, HatchRefusal, HatchSilent } from '../../hatch/hatch.js';
import { isOfHatch } from '../../hatch/place.js';
import { toPorterError } from '../../system-errors.js';
import { endExchange } from '../exchange.js';
import type { FilesEnd } from '../files-end.js';
import { listTree } from '../listings.js';
import { sumsByReading } from '../sums.js';

/** Files up to this size come together, in bytes; longer ones are read in ranges. */
const togetherBytes = 4 * 1024 * 1024;
const rangeBytes = 8 * 1024 * 1024;
/** Requests by which one hatch fetches from the other at once: each takes a PHP program at both. */
const fetches = 2;
/** Paths that are named in one request. */
const together = 4000;

type Change = readonly [what: string, ...rest: unknown[]];

/**
 * A folder of a site that is reached through a hatch. What PHP may not do there is done by the account that put the hatch
 * there.
 */
export class HatchFiles implements FilesEnd {
  readonly place: string;
  readonly far = true;
  readonly streams = 3;
  readonly canResume = true;
  readonly namesAreBytes = true;
  readonly makesLinks = true;
  readonly gathers = true;
  private readonly hatch: Hatch;
  private readonly ftp: FilesEnd;
  /** The path of the folder from the web root, with a slash behind it; empty for the web root itself. */
  private readonly prefix: string;

  /**
   * @param ftp the same folder as the account sees it
   * @param below its path from the web root
   */
  constructor(hatch: Hatch, ftp: FilesEnd, below: string) {
    this.hatch = hatch;
    this.ftp = ftp;
    this.place = ftp.place;
    this.prefix = below === '' ? '' : `${Buffer.from(below).toString('latin1')}/`;
  }

  get atOnce(): number {
    return 8;
  }

  takesName(): boolean {
    return true;
  }

  async runsCommands(): Promise<boolean> {
    return false;
  }

  async room(): Promise<{ bytes: number; files: undefined } | undefined> {
    const { room } = await this.hatch.facts();
    return room === undefined ? undefined : { bytes: room, files: undefined };
  }

  async isThere(): Promise<boolean> {
    // The hatch itself lies in the web root.
    if (this.prefix === '') return this.ftp.isThere();
    const [entry] = await this.look([this.prefix.slice(0, -1)]);
    return entry?.type === 'folder';
  }

  async *list(
    skip: (entry: FileEntry) => boolean,
    signal: AbortSignal,
    untaken?: (entry: ListedEntry) => void,
  ): AsyncIterable<FileEntry> {
    const { writesAsOwner } = await this.hatch.facts();
    const found = await this.listing(signal).catch(error => {
      // In a folder that is closed to PHP nothing seems to be.
      if (isDenied(error) || (isNotFound(error) && !writesAsOwner)) return undefined;
      throw error;
    });
    // A folder is closed to PHP; the account may see what is in it.
    if (!found) {
      for await (const entry of this.ftp.list(skip, signal, untaken))
        if (!this.isOfHatch(entry.path)) yield entry;
      return;
    }
    const listed = async function* (folder: ByteString) {
      yield found.get(folder) ?? [];
    };
    yield* listTree(listed, skip, signal, untaken);
  }

  async entry(path: ByteString): Promise<FileEntry | undefined> {
    return (await this.entriesAt([path]))[0];
  }

  async entriesAt(paths: readonly ByteString[]): Promise<readonly (FileEntry | undefined)[]> {
    const found: (FileEntry | undefined)[] = [];
    for (let at = 0; at < paths.length; at += together) {
      const some = paths.slice(at, at + together);
      const entries = await this.look(some.map(path => this.at(path)));
      for (const [i, entry] of entries.entries())
        found.push(isTakable(entry) ? { ...entry, path: some[i]! } : undefined);
    }
    if ((await this.hatch.facts()).writesAsOwner) return found;
    // In a folder that is closed to PHP, the account may see something.
    const unseen = paths.filter((_, i) => found[i] === undefined);
    const seen = new Map(unseen.map((path, i) => [path, i]));
    const others = await this.byAccount(unseen);
    return found.map((entry, i) => entry ?? others[seen.get(paths[i]!)!]);
  }

  /** The entries as the account sees them. */
  private async byAccount(paths: readonly ByteString[]): Promise<readonly (FileEntry | undefined)[]> {
    if (paths.length === 0) return [];
    return this.ftp.entriesAt?.(paths) ?? Promise.all(paths.map(path => this.ftp.entry(path)));
  }

  async *read(path: ByteString, from = 0): AsyncIterable<Buffer> {
    const far = this.at(path);
    const range = (at: number) =>
      this.asked(
        `Reading ${this.show(path)}`,
        { do: 'read', from: at, most: rangeBytes, bytes: rangeBytes },
        {
          data: Buffer.from(far, 'latin1'),
        },
      );
    try {
      let next: Promise<HatchAnswer> | undefined = range(from);
      for (let at = from; next; ) {
        const { data, result }: HatchAnswer = await next;
        at += data.length;
        const isLast: boolean = data.length === 0 || at >= Number(result.size);
        next = isLast ? undefined : range(at);
        next?.catch(() => {});
        yield data;
      }
    } catch (error) {
      // What belongs to others PHP may not read; the account may.
      if (!isDenied(error)) throw this.toError(error, `Reading ${this.show(path)}`);
      yield* this.ftp.read(path, from);
    }
  }

  async checksums(
    paths: readonly ByteString[],
    signal: AbortSignal,
  ): Promise<ReadonlyMap<ByteString, string>> {
    const sums = new Map<ByteString, string>();
    const shares = this.shares(paths);
    await pMap(shares, share => this.sumsOf(share, sums, signal), { concurrency: this.hatch.atOnce, signal });
    // What PHP may not read is read by the account.
    const rest = paths.filter(path => sums.get(path) === '');
    for (const path of rest) sums.delete(path);
    const there = await this.byAccount(rest);
    const isFile = new Map(rest.map((path, i) => [path, there[i]?.type === 'file']));
    const read = await sumsByReading(rest, this.ftp.atOnce, signal, async path =>
      isFile.get(path) ? this.ftp.read(path) : undefined,
    );
    return new Map([...sums, ...read]);
  }

  private async sumsOf(
    paths: readonly ByteString[],
    sums: Map<ByteString, string>,
    signal: AbortSignal,
  ): Promise<void> {
    let state: { from: unknown; state: unknown } | undefined;
    for (let at = 0; at < paths.length; ) {
      const some = paths.slice(at, at + together);
      const data = Buffer.from(some.map(path => this.at(path)).join('\0'), 'latin1');
      const { result } = await this.asked(
        'Taking checksums',
        { do: 'sums', ...state },
        { data, signal, packs: true },
      );
      const done = result.sums as string[];
      for (const [i, sum] of done.entries()) sums.set(some[i]!, sum);
      at += done.length;
      state = result.state === undefined ? undefined : { from: result.from, state: result.state };
    }
  }

  async readMany(
    paths: readonly ByteString[],
    signal: AbortSignal,
  ): Promise<AsyncIterable<{ readonly path: ByteString; readonly content: AsyncIterable<Buffer> }>> {
    return this.readAll(paths, signal);
  }

  private async *readAll(paths: readonly ByteString[], signal: AbortSignal) {
    const ask = (at: number) => {
      const some = paths.slice(at, at + together);
      const data = Buffer.from(some.map(path => this.at(path)).join('\0'), 'latin1');
      const asked = this.asked(
        'Reading files',
        { do: 'tar', most: togetherBytes, bytes: rangeBytes },
        { data, signal },
      );
      asked.catch(() => {});
      return asked;
    };
    let next: Promise<HatchAnswer> | undefined = paths.length > 0 ? ask(0) : undefined;
    for (let at = 0; next; ) {
      const { data, result } = await next;
      at += Number(result.done);
      next = at < paths.length ? ask(at) : undefined;
      // What is too long for it, or closed to PHP, does not come; whoever needs it reads it alone.
      for (const { path, content } of readTar(data))
        yield { path: this.inside(path), content: once(content) };
    }
  }

  async writeMany(files: AsyncIterable<FileToWrite>, signal: AbortSignal): Promise<boolean> {
    if (!(await this.hatch.facts()).writesAsOwner) return false;
    const most = this.hatch.requestBytes;
    const sending = new Set<Promise<unknown>>();
    let waiting: Buffer[] = [];
    let bytes = 0;
    let failure: unknown;
    const send = async () => {
      const data = Buffer.concat(waiting);
      [waiting, bytes] = [[], 0];
      if (sending.size >= 2) await Promise.race(sending);
      if (failure !== undefined) throw this.toError(failure, `Unpacking at ${this.place}`);
      const sent: Promise<unknown> = this.asked('Unpacking files', { do: 'untar' }, { data, signal })
        .catch(error => {
          failure ??= error;
        })
        .finally(() => sending.delete(sent));
      sending.add(sent);
    };
    for await (const { entry, content } of files) {
      signal.throwIfAborted();
      if (entry.size > most / 2) {
        await this.write(entry.path, content, entry);
        continue;
      }
      const chunks: Buffer[] = [];
      for await (const chunk of chunksOf(content)) chunks.push(chunk);
      const packed = tarBytes({ ...entry, path: asBytes(this.at(entry.path)) }, Buffer.concat(chunks));
      if (bytes + packed.length > most) await send();
      waiting.push(packed);
      bytes += packed.length;
    }
    if (bytes > 0) await send();
    await Promise.all(sending);
    if (failure !== undefined) throw this.toError(failure, `Unpacking at ${this.place}`);
    return true;
  }

  async fetchMany(
    from: FilesEnd,
    files: readonly FileEntry[],
    signal: AbortSignal,
    came: (file: FileEntry) => void,
  ): Promise<boolean> {
    if (!(from instanceof HatchFiles) || !(await this.hatch.facts()).writesAsOwner) return false;
    try {
      const small = files.filter(({ size }) => size <= togetherBytes);
      await pMap(piecesOf(small), piece => this.fetchTogether(from, piece, signal, came), {
        concurrency: fetches,
        signal,
      });
      for (const file of files) if (file.size > togetherBytes) await this.fetchLong(from, file, signal, came);
      return true;
    } catch (error) {
      // The hosts do not reach each other, or not any more: what is missing is sent.
      const isApart =
        error instanceof HatchSilent || (error instanceof HatchRefusal && error.kind === 'fetch');
      if (!isApart) throw error;
      const why = (error as Error).message;
      this.hatch.report(
        `The new host cannot take files from the old one itself (${why}); they are sent from here`,
      );
      return false;
    }
  }

  private async fetchTogether(
    from: HatchFiles,
    files: readonly FileEntry[],
    signal: AbortSignal,
    came: (file: FileEntry) => void,
  ): Promise<void> {
    for (let left = files; left.length > 0; ) {
      const data = Buffer.from(left.map(({ path }) => from.at(path)).join('\0'), 'latin1');
      const asked = { do: 'tar', most: togetherBytes, bytes: rangeBytes };
      const { done, missing } = await this.fetched(from, asked, data, { take: 'tar' }, signal);
      for (const [i, file] of left.slice(0, Number(done)).entries())
        if (!(missing as number[]).includes(i)) came(file);
      left = left.slice(Number(done));
    }
  }

  private async fetchLong(
    from: HatchFiles,
    file: FileEntry,
    signal: AbortSignal,
    came: (file: FileEntry) => void,
  ): Promise<void> {
    const path = Buffer.from(this.at(file.path), 'latin1').toString('base64');
    const like = [file.mode, Math.floor(file.mtime / 1000)];
    for (let at = 0; at < file.size; ) {
      const data = Buffer.from(from.at(file.path), 'latin1');
      const asked = { do: 'read', from: at, most: rangeBytes, bytes: rangeBytes };
      const { bytes } = await this.fetched(
        from,
        asked,
        data,
        { take: 'range', write: { path, from: at, like } },
        signal,
      );
      // It became shorter meanwhile; it will differ.
      if (Number(bytes) === 0) return;
      at += Number(bytes);
    }
    came(file);
  }

  /** Lets the hatch here ask the one there. @returns what that one says, and how many bytes came */
  private async fetched(
    from: HatchFiles,
    asked: HatchAsk,
    data: Buffer,
    ask: Readonly<Record<string, unknown>>,
    signal: AbortSignal,
  ): Promise<Readonly<Record<string, unknown>>> {
    const { bytes, ...how } = await from.hatch.signed(asked, data);
    const into = Buffer.from(this.prefix, 'latin1').toString('base64');
    const { result } = await this.hatch.ask(
      { do: 'fetch', ...how, into, ...ask },
      { data: bytes, signal, isOnce: true },
    );
    const said = result.fetched as Readonly<Record<string, unknown>>;
    if (said.error !== undefined) throw new HatchRefusal({ error: 'fetch', why: said.why });
    return { ...said, bytes: result.bytes };
  }

  async write(
    path: ByteString,
    content: Content,
    like?: Pick<FileEntry, 'mode' | 'mtime'>,
    from = 0,
  ): Promise<void> {
    if (!(await this.hatch.facts()).writesAsOwner) return this.ftp.write(path, content, like, from);
    const far = this.at(path);
    const doing = `Writing ${this.show(path)}`;
    const name = Buffer.from(far, 'latin1').toString('base64');
    const seconds = like && [like.mode, Math.floor(like.mtime / 1000)];
    let at = from;
    const put = (data: Buffer, isLast: boolean) =>
      this.asked(
        doing,
        { do: 'write', path: name, from: at, ...(isLast ? { like: seconds ?? undefined } : {}) },
        { data },
      );
    let waiting = Buffer.alloc(0);
    for await (const chunk of chunksOf(content)) {
      waiting = waiting.length === 0 ? Buffer.from(chunk) : Buffer.concat([waiting, chunk]);
      while (waiting.length > this.hatch.requestBytes) {
        const piece = waiting.subarray(0, this.hatch.requestBytes);
        await put(piece, false);
        at += piece.length;
        waiting = waiting.subarray(piece.length);
      }
    }
    await put(waiting, true);
  }

  makeFolder(path: ByteString, mode: number): Promise<void> {
    return this.change(`Making the folder ${this.show(path)}`, [['folder', path, mode]], () =>
      this.ftp.makeFolder(path, mode),
    );
  }

  makeLink(path: ByteString, to: ByteString): Promise<void> {
    return this.change(`Creating the link ${this.show(path)}`, [
      ['link', path, bufferOf(to).toString('base64')],
    ]);
  }

  finishFolder(path: ByteString, { mode, mtime }: Pick<FileEntry, 'mode' | 'mtime'>): Promise<void> {
    return this.change(
      `Setting mode and time of ${this.show(path)}`,
      [['like', path, [mode, Math.floor(mtime / 1000)]]],
      () => this.ftp.finishFolder(path, { mode, mtime }),
    );
  }

  remove(path: ByteString): Promise<void> {
    return this.change(`Removing ${this.show(path)}`, [['remove', path]], () => this.ftp.remove(path));
  }

  async rename(from: ByteString, to: ByteString): Promise<void> {
    try {
      await this.change(`Renaming ${this.show(from)}`, [['rename', from, to]], () =>
        this.ftp.rename(from, to),
      );
    } catch (error) {
      // Done already, before an answer was lost: it is there under its new name.
      if (!(await this.entry(from)) && (await this.entry(to))) return;
      throw error;
    }
  }

  async exchange(from: ByteString, to: ByteString, aside: ByteString): Promise<void> {
    const changes: Change[] = [
      ['rename', to, aside],
      ['rename', from, to],
    ];
    try {
      await this.change(`Renaming ${this.show(from)}`, changes, () => this.ftp.exchange(from, to, aside));
    } catch (error) {
      await endExchange(this, { from, to, aside }, error);
    }
  }

  async replace(from: ByteString, to: ByteString): Promise<void> {
    try {
      await this.change(`Renaming ${this.show(from)}`, [['replace', from, to]], () =>
        this.ftp.replace(from, to),
      );
    } catch (error) {
      if (!(await this.entry(from)) && (await this.entry(to))) return;
      throw error;
    }
  }

  /**
   * Makes changes, one after the other.
   * @param otherwise does them by the account, where PHP may not or would make them another's
   */
  private async change(
    doing: string,
    changes: readonly Change[],
    otherwise?: () => Promise<void>,
  ): Promise<void> {
    if (otherwise && !(await this.hatch.facts()).writesAsOwner) return otherwise();
    const named = changes.map(([what, ...rest]) => {
      const isPair = what === 'rename' || what === 'replace';
      return [
        what,
        ...rest.map((one, i) =>
          i === 0 || isPair ? Buffer.from(this.at(one as ByteString), 'latin1').toString('base64') : one,
        ),
      ];
    });
    try {
      for (let left = named; left.length > 0; ) {
        const { result } = await this.hatch.ask({ do: 'change', changes: left });
        left = left.slice(Number(result.done));
      }
    } catch (error) {
      if (isDenied(error) && otherwise) return otherwise();
      throw this.toError(error, doing);
    }
  }

  private async look(paths: readonly string[]): Promise<(ListedEntry | undefined)[]> {
    if (paths.length === 0) return [];
    const { data } = await this.asked(
      'Looking',
      { do: 'look' },
      { data: Buffer.from(paths.join('\0'), 'latin1'), packs: true },
    );
    return readEntries(data);
  }

  /** Everything below, by folder. */
  private async listing(signal: AbortSignal): Promise<ReadonlyMap<ByteString, readonly ListedEntry[]>> {
    const found = new Map<ByteString, ListedEntry[]>();
    let left = [this.prefix === '' ? '.' : this.prefix.slice(0, -1)];
    for (let skip = 0, isFirst = true; left.length > 0; isFirst = false) {
      const data = Buffer.from(left.join('\0'), 'latin1');
      const { data: listed, result } = await this.asked(
        `Listing ${this.place}`,
        { do: 'list', skip, first: isFirst },
        { data, signal, packs: true },
      );
      const part = readListing(listed);
      for (const { folder, entries } of part.found) {
        const inside = this.inside(folder);
        const kept = entries
          .filter(({ path }) => !isOfHatch(path))
          .map(entry => ({ ...entry, path: this.inside(entry.path) }));
        found.set(inside, [...(found.get(inside) ?? []), ...kept]);
      }
      left = part.left.map(String);
      skip = Number(result.skip ?? 0);
    }
    return found;
  }

  /** Paths in as many shares as are asked for at once. */
  private shares(paths: readonly ByteString[]): ByteString[][] {
    const count = Math.min(this.hatch.atOnce, Math.ceil(paths.length / 8));
    const shares: ByteString[][] = Array.from({ length: count }, () => []);
    for (const [i, path] of paths.entries()) shares[i % count]!.push(path);
    return shares;
  }

  private async asked(doing: string, ask: HatchAsk, asking?: HatchAsking): Promise<HatchAnswer> {
    try {
      return await this.hatch.ask(ask, asking);
    } catch (error) {
      if (isDenied(error)) throw error;
      throw this.toError(error, doing);
    }
  }

  private toError(error: unknown, doing: string): unknown {
    if (!(error instanceof HatchRefusal)) return error;
    const codes: Record<string, string> = {
      missing: 'ENOENT',
      denied: 'EACCES',
      full: 'EDQUOT',
      there: 'EEXIST',
    };
    if (error.kind === 'path') {
      return new UsageError({
        doing,
        cause: error.message,
        remedy: 'A hatch works inside of the web root only; leave this out, or use another protocol for it',
      });
    }
    return toPorterError(
      Object.assign(new Error(error.message), { code: codes[error.kind] ?? 'HATCH' }),
      doing,
    );
  }

  private at(path: ByteString): string {
    if (!staysInside(path) || path.includes('\0')) {
      throw new DamageError({
        doing: `Looking in ${this.place}`,
        cause: `the path ${JSON.stringify(textOf(path))} leads out of it`,
        remedy: 'Do not use what gave this path; take it again',
      });
    }
    return this.prefix + path;
  }

  /** A path from the web root, as one below this folder. */
  private inside(path: ByteString): ByteString {
    if (this.prefix === '') return path;
    if (`${path}/` === this.prefix) return asBytes('');
    return path.startsWith(this.prefix) ? asBytes(path.slice(this.prefix.length)) : elsewhere(path).path;
  }

  /** Whether something belongs to the hatch itself, which lies in the web root. */
  private isOfHatch(path: ByteString): boolean {
    return this.prefix === '' && isOfHatch(path);
  }

  private show(path: ByteString): string {
    return `${this.place}/${textOf(path)}`;
  }
}

/** Files in pieces that take about as long as a slice. */
function piecesOf(files: readonly FileEntry[]): FileEntry[][] {
  const pieces: FileEntry[][] = [];
  let bytes = Number.POSITIVE_INFINITY;
  for (const file of files) {
    if (bytes + file.size > togetherBytes || pieces.at(-1)!.length >= together) {
      pieces.push([]);
      bytes = 0;
    }
    pieces.at(-1)!.push(file);
    bytes += file.size;
  }
  return pieces;
}

function isDenied(error: unknown): boolean {
  return error instanceof HatchRefusal && error.kind === 'denied';
}

async function* once(content: Buffer): AsyncIterable<Buffer> {
  yield content;
}

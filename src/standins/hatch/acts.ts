import { createHash, createHmac, timingSafeEqual } from 'node:crypto';
import { chmod, lstat, mkdir, open, readFile, rename, rm, unlink, utimes } from 'node:fs/promises';
import { request } from 'node:http';
import { posix } from 'node:path';
import { inflateRawSync } from 'node:zlib';
import { asBytes, bytesOfText } from '../../core/bytes.js';
import { staysInside } from '../../core/files/entries.js';
import { readTar, tarBytes } from '../../core/files/tar.js';
import { opened } from '../../core/hatch/exchange.js';
import type { HostFolder } from '../hosting/host-folder.js';

/** A refusal, with the word that the tool knows for its kind. */
export class Refused extends Error {
  readonly kind: string;

  constructor(kind: string, why: string) {
    super(why);
    this.kind = kind;
  }
}

type Ask = Readonly<Record<string, unknown>>;

interface Done {
  readonly data: Buffer;
  readonly result: object;
}

/** What a host with PHP would say of itself. */
const facts = {
  php: '8.2.20',
  server: 'stand-in',
  sapi: 'fpm-fcgi',
  extensions: ['sodium', 'openssl', 'zlib', 'hash'],
  limits: { memory_limit: '64M', max_execution_time: '30', post_max_size: '8M' },
  room: 40_000_000_000,
  owner: 1000,
  rootOwner: 1000,
};

const letters = { file: 'f', folder: 'd', link: 'l' } as const;

/** What a hatch does to the files of a site, below its web root. Each takes arguments and data, and is done at once. */
export class HatchActs {
  private readonly host: HostFolder;
  private readonly root: string;

  constructor(host: HostFolder, root: string) {
    this.host = host;
    this.root = root;
  }

  async do(ask: Ask, data: Buffer): Promise<Done> {
    const nothing = Buffer.alloc(0);
    switch (ask.do) {
      case 'facts':
        return { data: nothing, result: facts };
      case 'list':
        return { data: await this.list(namesIn(data)), result: { skip: 0 } };
      case 'look': {
        const entries = namesIn(data).map(path => this.entry(path, path));
        return { data: Buffer.concat(await Promise.all(entries)), result: {} };
      }
      case 'sums':
        return {
          data: nothing,
          result: { sums: await Promise.all(namesIn(data).map(path => this.sum(path))) },
        };
      case 'read':
        return this.readRange(data.toString('latin1'), Number(ask.from), Number(ask.most));
      case 'tar':
        return this.pack(namesIn(data), Number(ask.most));
      case 'untar':
        return { data: nothing, result: { done: await this.unpack(data, '') } };
      case 'write':
        return { data: nothing, result: await this.write(ask, data) };
      case 'change': {
        for (const change of ask.changes as string[][]) await this.change(change);
        return { data: nothing, result: { done: (ask.changes as unknown[]).length } };
      }
      case 'fetch':
        return { data: nothing, result: await this.fetch(ask, data) };
      case 'sql':
        throw new Refused(
          'database',
          JSON.stringify({ errno: 2002, text: 'this host is simulated and has no database' }),
        );
      default:
        throw new Refused('unknown', 'there is nothing of this name here');
    }
  }

  /** The path on this machine. @param path bytes, one a character */
  private async at(path: string): Promise<string> {
    if (path !== '.' && !staysInside(asBytes(path)))
      throw new Refused('path', 'the path leads out of the site');
    const text = Buffer.from(path, 'latin1').toString('utf8');
    return this.host.real(posix.join(this.root, text));
  }

  private async list(folders: string[]): Promise<Buffer> {
    const parts: Buffer[] = [];
    for (let folder = folders.shift(); folder !== undefined; folder = folders.shift()) {
      parts.push(Buffer.from(`D\0${folder}\0`, 'latin1'));
      const text = Buffer.from(folder, 'latin1').toString('utf8');
      for (const { name, kind } of await this.host.list(posix.join(this.root, text))) {
        const bytes = bytesOfText(name);
        const path = folder === '.' ? bytes : `${folder}/${bytes}`;
        parts.push(await this.entry(path, bytes));
        if (kind === 'folder') folders.push(path);
      }
    }
    return Buffer.concat([...parts, Buffer.from('E\0')]);
  }

  private async entry(path: string, name: string): Promise<Buffer> {
    const at = posix.join(this.root, Buffer.from(path, 'latin1').toString('utf8'));
    const seen = await this.host.entry(at).catch(() => undefined);
    const target = seen?.kind === 'link' ? bytesOfText(await this.host.link(at)) : '';
    const seconds = Math.floor((seen?.mtime.getTime() ?? 0) / 1000);
    const fields = seen
      ? [letters[seen.kind], seen.mode & 0o7777, seen.size, seconds, name, target]
      : ['-', '', '', '', name, ''];
    return Buffer.from(`${fields.join('\0')}\0`, 'latin1');
  }

  private async sum(path: string): Promise<string> {
    const content = await this.content(path);
    return content ? createHash('sha256').update(content).digest('hex') : '';
  }

  /** Of a file that is one itself; undefined for anything else. */
  private async content(path: string): Promise<Buffer | undefined> {
    const real = await this.at(path);
    const isFile = await lstat(real).then(
      stat => stat.isFile(),
      () => false,
    );
    return isFile ? readFile(real) : undefined;
  }

  private async readRange(path: string, from: number, most: number): Promise<Done> {
    const content = await this.content(path);
    if (!content) throw new Refused('missing', 'it is no file');
    return { data: content.subarray(from, from + most), result: { size: content.length } };
  }

  private async pack(paths: readonly string[], most: number): Promise<Done> {
    const parts: Buffer[] = [];
    const missing: number[] = [];
    for (const [i, path] of paths.entries()) {
      const content = await this.content(path);
      if (!content || content.length > most) missing.push(i);
      else {
        const { mode, mtimeMs } = await lstat(await this.at(path));
        parts.push(
          tarBytes({ path: asBytes(path), type: 'file', mode: mode & 0o7777, mtime: mtimeMs }, content),
        );
      }
    }
    return { data: Buffer.concat([...parts, Buffer.alloc(1024)]), result: { done: paths.length, missing } };
  }

  /** @param into bytes before each path */
  private async unpack(tar: Buffer, into: string): Promise<number> {
    let done = 0;
    for (const { path, type, mode, mtime, content } of readTar(tar)) {
      if (type === 'folder') await this.makeFolder(into + path, mode);
      else await this.put(into + path, content, 0, [mode, mtime / 1000]);
      done++;
    }
    return done;
  }

  private async write({ path, from, like }: Ask, data: Buffer): Promise<{ size: number }> {
    const name = decoded(path);
    await this.put(name, data, Number(from), like as [number, number] | undefined);
    return { size: (await lstat(await this.at(name))).size };
  }

  private async put(
    path: string,
    bytes: Buffer,
    from: number,
    like: readonly [number, number] | undefined,
  ): Promise<void> {
    await this.makeFolder(posix.dirname(path), undefined);
    const real = await this.at(path);
    if ((await lstat(real).catch(() => undefined))?.isSymbolicLink()) await unlink(real);
    const file = await open(real, from === 0 ? 'w' : 'r+');
    try {
      await file.write(bytes, 0, bytes.length, from);
      await file.truncate(from + bytes.length);
    } finally {
      await file.close();
    }
    if (like) await this.setLike(real, like);
  }

  private async setLike(real: string, [mode, seconds]: readonly [number, number]): Promise<void> {
    await utimes(real, seconds, seconds);
    await chmod(real, mode);
  }

  private async makeFolder(path: string, mode: number | undefined): Promise<void> {
    if (path === '.') return;
    await this.makeFolder(posix.dirname(path), undefined);
    const real = await this.at(path);
    await mkdir(real).catch(error => {
      if (error.code !== 'EEXIST') throw error;
    });
    if (mode !== undefined) await chmod(real, mode | 0o700);
  }

  private async change([what, ...rest]: readonly unknown[]): Promise<void> {
    const path = decoded(rest[0]);
    const real = async () => this.at(path);
    if (what === 'folder') await this.makeFolder(path, rest[1] as number);
    else if (what === 'like') await this.setLike(await real(), rest[1] as [number, number]);
    else if (what === 'link') await this.host.makeLink(posix.join(this.root, path), decoded(rest[1]));
    else if (what === 'remove') await rm(await real(), { recursive: true, force: true });
    else if (what === 'rename' || what === 'replace') {
      const to = await this.at(decoded(rest[1]));
      const [from, there] = await Promise.all(
        [await real(), to].map(one => lstat(one).catch(() => undefined)),
      );
      if (!from) throw new Refused('missing', 'there is nothing of this name');
      if (there && what === 'rename') throw new Refused('there', 'there is something of this name already');
      await rename(await real(), to);
    } else throw new Refused('unknown', 'there is no such change');
  }

  /** Asks another hatch with a request that was signed for it, and takes what it answers. */
  private async fetch(ask: Ask, data: Buffer): Promise<object> {
    const answer = await posted(String(ask.url), String(ask.host), data);
    let body = answer.subarray(0, -32);
    const mac = createHmac('sha256', Buffer.from(String(ask.proof), 'base64'))
      .update(body)
      .digest();
    if (!timingSafeEqual(mac, answer.subarray(-32)))
      throw new Refused('fetch', 'what the other site answers is not from its hatch');
    if (ask.seal !== '') body = opened(Buffer.from(String(ask.seal), 'base64'), body);
    const length = body.readUInt32BE(body.length - 4);
    const result = JSON.parse(body.toString('utf8', body.length - 4 - length, body.length - 4));
    body = body.subarray(0, body.length - 4 - length);
    if (result.packed) body = inflateRawSync(body);
    if (result.error !== undefined) return { fetched: result };
    if (ask.take === 'tar') await this.unpack(body, decoded(ask.into));
    else if (body.length > 0) await this.write(ask.write as Ask, body);
    return { fetched: result, bytes: body.length };
  }
}

function namesIn(data: Buffer): string[] {
  return data.length === 0 ? [] : data.toString('latin1').split('\0');
}

/** Bytes, one a character, of Base64. */
function decoded(text: unknown): string {
  return Buffer.from(String(text), 'base64').toString('latin1');
}

async function posted(url: string, host: string, data: Buffer): Promise<Buffer> {
  const chunks: Buffer[] = [];
  await new Promise<void>((resolve, reject) => {
    const asked = request(
      url,
      { method: 'POST', headers: { host, 'content-length': data.length } },
      response => {
        response.on('data', chunk => chunks.push(chunk));
        response.once('end', resolve);
      },
    );
    asked.once('error', reject).end(data);
  });
  return Buffer.concat(chunks);
}

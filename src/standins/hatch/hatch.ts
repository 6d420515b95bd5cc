import { createHash, createHmac, createPublicKey, type KeyObject, verify } from 'node:crypto';
import { readFile } from 'node:fs/promises';
import { posix } from 'node:path';
import { deflateRawSync, inflateRawSync } from 'node:zlib';
import { opened, sealed } from '../../core/hatch/exchange.js';
import { requestKey, type SigningAlgorithm } from '../../core/hatch/keys.js';
import type { HostFolder } from '../hosting/host-folder.js';
import { HatchActs, Refused } from './acts.js';

/** What a web server answers. */
export interface HatchReply {
  readonly status: number;
  readonly type: string;
  readonly body: Buffer;
}

/** Seconds by which a request may be older or newer than now. */
const clock = 300;
/** Wrong signatures after which a hatch closes. */
const mostWrong = 50;
/** DER before a raw public key of Ed25519 (RFC 8410). */
const ed25519Head = Buffer.from('302a300506032b6570032100', 'hex');

/** The settings that the tool wrote into a hatch. */
interface Settings {
  readonly id: string;
  readonly key: KeyObject;
  readonly algorithm: SigningAlgorithm;
  readonly secret: Buffer;
  readonly secretFile: string;
  readonly ends: number;
  readonly seals: boolean;
  readonly unknown: HatchReply;
}

/** The head of a request. */
interface Head {
  readonly hatch: string;
  readonly n: number;
  readonly time: number;
  readonly sum: string;
  readonly packed: boolean;
  readonly sealed: boolean;
}

/**
 * Does what `hatch.php` and its probe do at a host that has no PHP: the files are read for their settings and not run.
 * Databases are not reached through it.
 */
export class StandinHatch {
  private readonly host: HostFolder;
  private readonly root: string;
  private readonly seen = new Map<string, { readonly numbers: Set<number>; wrong: number }>();

  /** @param root the path of the web root at the host */
  constructor(host: HostFolder, root: string) {
    this.host = host;
    this.root = root;
  }

  /** Answers a request for a hatch or a probe; undefined where there is none of that name. */
  async answer(name: string, body: Buffer): Promise<HatchReply | undefined> {
    const source = await this.read(`${name}.php`);
    if (source === undefined) return undefined;
    const token = /'token' => '([\da-f]{32})'/.exec(source)?.[1];
    if (token !== undefined) return this.probe(token, /__DIR__ \. '\/' \. '([^']+)'/.exec(source)?.[1] ?? '');
    const settings = await this.settingsOf(source);
    if (!settings) return undefined;
    const head = this.signed(settings, body);
    if (head === 'wrong' && this.countWrong(name) >= mostWrong) await this.close(settings);
    if (typeof head === 'string') return settings.unknown;
    return { status: 200, type: 'application/octet-stream', body: await this.reply(settings, head, body) };
  }

  private async probe(token: string, secretFile: string): Promise<HatchReply> {
    const said = {
      token,
      php: 80220,
      clock: Date.now() / 1000,
      sodium: true,
      openssl: true,
      above: (await this.read(secretFile)) !== undefined,
      keeps: true,
    };
    return { status: 200, type: 'application/json', body: Buffer.from(JSON.stringify(said)) };
  }

  private async reply(settings: Settings, head: Head, body: Buffer): Promise<Buffer> {
    let data: Buffer = Buffer.alloc(0);
    let result: object = {};
    let packs = false;
    try {
      const { ask, data: given } = this.opened(settings, head, body);
      packs = ask.pack === true;
      if (ask.do === 'end') {
        await this.close(settings);
        result = { gone: true };
      } else ({ data, result } = await new HatchActs(this.host, this.root).do(ask, given));
    } catch (error) {
      result = error instanceof Refused ? { error: error.kind, why: error.message } : failed(error);
    }
    const json = Buffer.from(JSON.stringify({ ...result, packed: packs }));
    const length = Buffer.alloc(4);
    length.writeUInt32BE(json.length);
    let answer: Buffer = Buffer.concat([packs ? deflateRawSync(data) : data, json, length]);
    if (settings.seals) answer = sealed(requestKey(settings.secret, 'seal', head.n), answer);
    const mac = createHmac('sha256', requestKey(settings.secret, 'reply', head.n))
      .update(answer)
      .digest();
    return Buffer.concat([answer, mac]);
  }

  /** The head of a request that may be answered, or why it may not. */
  private signed(settings: Settings, request: Buffer): Head | 'wrong' | 'refused' {
    const one = request.indexOf('\n');
    const two = request.indexOf('\n', one + 1);
    if (one < 0 || two < 0) return 'refused';
    const line = request.subarray(one + 1, two);
    const signature = Buffer.from(request.toString('latin1', 0, one), 'base64');
    const digest = settings.algorithm === 'ed25519' ? null : 'sha256';
    if (!verify(digest, line, settings.key, signature)) return 'wrong';
    const head = JSON.parse(line.toString()) as Head;
    const sum = createHash('sha256')
      .update(request.subarray(two + 1))
      .digest('hex');
    const { numbers } = this.stateOf(settings.id);
    const isLate = Math.abs(Date.now() / 1000 - head.time) > clock;
    if (head.hatch !== settings.id || isLate || sum !== head.sum || numbers.has(head.n)) return 'refused';
    numbers.add(head.n);
    return head;
  }

  private opened(
    { secret, seals }: Settings,
    { n, packed, sealed }: Head,
    request: Buffer,
  ): { ask: Record<string, unknown>; data: Buffer } {
    let body = request.subarray(request.indexOf('\n', request.indexOf('\n') + 1) + 1);
    if (seals && !sealed) throw new Refused('damaged', 'the body is not sealed');
    if (sealed) body = opened(requestKey(secret, 'ask', n), body);
    if (packed) body = inflateRawSync(body);
    const end = body.indexOf('\n');
    return { ask: JSON.parse(body.toString('utf8', 0, end)), data: body.subarray(end + 1) };
  }

  private async settingsOf(source: string): Promise<Settings | undefined> {
    const text = (key: string) =>
      new RegExp(`^ {4}'${key}' => '((?:[^'\\\\]|\\\\.)*)',$`, 'm')
        .exec(source)?.[1]
        ?.replace(/\\(.)/g, '$1');
    const [id, algorithm, key] = ['id', 'algorithm', 'key'].map(text);
    const unknown = /^ {4}'unknown' => \[(\d+), '([^']*)', '([^']*)'\],$/m.exec(source);
    if (id === undefined || key === undefined || !unknown) return undefined;
    const raw = Buffer.from(key, 'base64');
    const secretFile = text('secret-file') ?? '';
    const secret = secretFile === '' ? text('secret') : await this.read(secretFile);
    return {
      id,
      algorithm: algorithm as SigningAlgorithm,
      key: createPublicKey({
        key: algorithm === 'ed25519' ? Buffer.concat([ed25519Head, raw]) : raw,
        format: 'der',
        type: 'spki',
      }),
      secret: Buffer.from(secret ?? '', 'base64'),
      secretFile,
      ends: Number(/^ {4}'ends' => (\d+),$/m.exec(source)?.[1]),
      seals: /^ {4}'sealed' => true,$/m.test(source),
      unknown: { status: Number(unknown[1]), type: unknown[2]!, body: Buffer.from(unknown[3]!, 'base64') },
    };
  }

  private stateOf(name: string): { readonly numbers: Set<number>; wrong: number } {
    const state = this.seen.get(name) ?? { numbers: new Set(), wrong: 0 };
    this.seen.set(name, state);
    return state;
  }

  private countWrong(name: string): number {
    return ++this.stateOf(name).wrong;
  }

  private async close({ id, secretFile }: Settings): Promise<void> {
    for (const path of [`${id}.php`, secretFile])
      if (path !== '') await this.host.removeFile(posix.join(this.root, path)).catch(() => {});
  }

  private async read(path: string): Promise<string | undefined> {
    try {
      return await readFile(await this.host.real(posix.join(this.root, path)), 'utf8');
    } catch {
      return undefined;
    }
  }
}

function failed(error: unknown): { error: string; why: string } {
  return { error: 'failed', why: error instanceof Error ? error.message : String(error) };
}

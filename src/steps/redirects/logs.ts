import { createReadStream } from 'node:fs';
import { basename, dirname } from 'node:path';
import { createInterface } from 'node:readline';
import { PassThrough, Readable } from 'node:stream';
import { createGunzip } from 'node:zlib';
import { isbot } from 'isbot';
import { bytesOfText, textOf } from '../../core/bytes.js';
import { parsePlaceUrl } from '../../core/files/place-url.js';
import { readLogLine } from '../../core/redirects/plan/access-log.js';
import type { KnownPages } from '../../core/redirects/plan/known-pages.js';
import type { RedirectSet } from '../../core/redirects/redirect-set.js';
import { globPattern } from '../../core/rewrite/terms/globs.js';
import type { FilesEnd } from '../../ends/files/files-end.js';
import type { StepRun } from '../move/step.js';

/** What the access logs of the old host gave. */
export interface ReadLogs {
  readonly files: readonly string[];
  readonly lines: number;
  /** Requests for the site's pages by people and by programs. */
  readonly hits: number;
  readonly bots: number;
  /** From the first to the last request, in ISO 8601. */
  readonly period: { readonly from: string; readonly to: string; readonly days: number } | undefined;
  /** What could not be read, with why. */
  readonly unread: readonly string[];
}

/** Counts pages by what a log says. */
class LogCount {
  lines = 0;
  hits = 0;
  bots = 0;
  first = Number.POSITIVE_INFINITY;
  last = Number.NEGATIVE_INFINITY;
  private readonly counts = new Map<string, { hits: number; bots: number }>();
  private readonly hosts: ReadonlySet<string>;
  private readonly isOwnWork: (uri: string) => boolean;

  constructor(set: RedirectSet, isOwnWork: (uri: string) => boolean) {
    this.hosts = new Set(set.from.map(({ host }) => host));
    this.isOwnWork = isOwnWork;
  }

  line(text: string): void {
    this.lines++;
    const request = readLogLine(text);
    if (!request || !/^(?:GET|HEAD)$/.test(request.method) || request.status >= 400) return;
    if (request.host !== undefined && !this.hosts.has(request.host.toLowerCase())) return;
    if (this.isOwnWork(request.uri)) return;
    const { at, agent } = request;
    if (at !== undefined) {
      this.first = Math.min(this.first, at);
      this.last = Math.max(this.last, at);
    }
    const kind = agent !== undefined && agent !== '-' && isbot(agent) ? 'bots' : 'hits';
    const known = this.counts.get(request.uri) ?? { hits: 0, bots: 0 };
    known[kind]++;
    if (this.counts.size < mostAddresses) this.counts.set(request.uri, known);
  }

  /** Adds the pages to those that are known. Paths of a log begin at the host's root. */
  addTo(pages: KnownPages, root: string): void {
    const often = [...this.counts].sort(([, a], [, b]) => b.hits - a.hits || b.bots - a.bots);
    for (const [uri, counts] of often) {
      const ascii = uri.replace(/[^\x21-\x7e]/g, char => encodeByte(char.charCodeAt(0)));
      const url = ascii.startsWith('/') ? root + ascii : ascii;
      if (!URL.canParse(url) || pages.add(url, 'log', counts) === undefined) continue;
      this.hits += counts.hits;
      this.bots += counts.bots;
    }
  }
}

/** So many different addresses are counted; what attackers try has no end. */
const mostAddresses = 500_000;

function encodeByte(byte: number): string {
  return `%${byte.toString(16).toUpperCase().padStart(2, '0')}`;
}

/**
 * Reads the access logs that the sheet names: files beside it, or at a host (`sftp://…/logs/access.log*`), plain or packed by gzip.
 * @param isOwnWork whether an address is none that visitors know, such as those of the administration
 */
export async function readLogs(
  { move, signal, events }: StepRun,
  set: RedirectSet,
  pages: KnownPages,
  isOwnWork: (uri: string) => boolean,
): Promise<ReadLogs> {
  const count = new LogCount(set, isOwnWork);
  const files: string[] = [];
  const unread: string[] = [];
  for (const wish of move.sheet.redirects.logs) {
    try {
      const found = await filesOf(wish);
      if (found.length === 0) unread.push(`${wish} (no such file)`);
      for (const { name, content } of found) {
        events({ type: 'message', text: `Reading ${name}` });
        for await (const line of linesOf(content())) {
          signal.throwIfAborted();
          count.line(line);
        }
        files.push(name);
      }
    } catch (error) {
      signal.throwIfAborted();
      unread.push(`${wish} (${(error as Error).message.split('\n')[0]})`);
    }
  }
  const [from] = set.from;
  const { first, last, lines } = count;
  count.addTo(pages, `${from.scheme}://${from.host}${from.port === undefined ? '' : `:${from.port}`}`);
  const period = Number.isFinite(first)
    ? {
        from: new Date(first).toISOString(),
        to: new Date(last).toISOString(),
        days: Math.max(1, Math.ceil((last - first) / 86_400_000)),
      }
    : undefined;
  return { files, lines, hits: count.hits, bots: count.bots, period, unread };

  async function filesOf(wish: string): Promise<{ name: string; content: () => Readable }[]> {
    const [folder, pattern] = [dirname(wish), basename(wish)];
    const place = move.accounts.place(folder, move.sheet.old.login);
    if (parsePlaceUrl(wish) === undefined && !pattern.includes('*')) {
      const { path } = place.below(pattern);
      return [{ name: wish, content: () => createReadStream(path) }];
    }
    const end = place.open();
    const matches = globPattern(pattern);
    const found: { name: string; content: () => Readable }[] = [];
    for await (const entry of end.list(entry => entry.type === 'folder', signal)) {
      const name = textOf(entry.path);
      if (entry.type !== 'file' || name.includes('/') || !matches.test(name)) continue;
      found.push({ name: folder === '.' ? name : `${folder}/${name}`, content: () => contentOf(end, name) });
    }
    return found;
  }
}

function contentOf(end: FilesEnd, name: string): Readable {
  return Readable.from(end.read(bytesOfText(name)), { objectMode: false });
}

/** The lines of a log, one character a byte; one that is packed is unpacked. */
async function* linesOf(content: Readable): AsyncIterable<string> {
  const input = new PassThrough();
  content.on('error', error => input.destroy(error)).pipe(input);
  const head = await new Promise<Buffer>((resolve, reject) => {
    input.once('error', reject);
    input.once('readable', () => {
      const chunk = (input.read() as Buffer | null) ?? Buffer.alloc(0);
      if (chunk.length > 0) input.unshift(chunk);
      resolve(chunk.subarray(0, 2));
    });
  });
  const plain = head[0] === 0x1f && head[1] === 0x8b ? input.pipe(createGunzip()) : input;
  if (plain !== input) input.on('error', error => plain.destroy(error));
  plain.setEncoding('latin1');
  yield* createInterface({ input: plain, crlfDelay: Number.POSITIVE_INFINITY });
}

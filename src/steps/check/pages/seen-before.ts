import { appendFile, readFile, rm, writeFile } from 'node:fs/promises';
import type { PageComparison } from '../../../core/pages/compare/compare-pages.js';
import type { MoveFolder } from '../../../ends/move-folder/move-folder.js';
import type { AssetOnPage } from './assets.js';

/** What a comparison of one page gave. */
export interface SeenOnPage {
  readonly page: PageComparison;
  /** Pages that the old one links to. */
  readonly links: readonly string[];
  /** What the new one loads. */
  readonly assets: readonly AssetOnPage[];
}

const file = 'results/pages-seen.ndjson';
/** What was seen longer ago, in milliseconds, is looked at again. */
const longest = 60 * 60 * 1000;

/** The pages that an interrupted comparison has come through, kept in the move folder until it is done. */
export class PagesSeen {
  private readonly seen: ReadonlyMap<string, SeenOnPage>;
  private readonly path: string;

  private constructor(path: string, seen: ReadonlyMap<string, SeenOnPage>) {
    this.path = path;
    this.seen = seen;
  }

  /** @param inputs what the comparison depends on; of another one nothing is used */
  static async open(folder: MoveFolder, inputs: string): Promise<PagesSeen> {
    const path = folder.at(file);
    const seen = new Map<string, SeenOnPage>();
    const lines = (await readFile(path, 'utf8').catch(() => '')).split('\n');
    const first = parsed(lines[0]) as { inputs?: string; begun?: number } | undefined;
    if (first?.inputs === inputs && Date.now() - (first.begun ?? 0) < longest) {
      for (const line of lines.slice(1)) {
        const one = parsed(line) as SeenOnPage | undefined;
        if (one) seen.set(one.page.path, one);
      }
    } else await writeFile(path, `${JSON.stringify({ inputs, begun: Date.now() })}\n`, { mode: 0o600 });
    return new PagesSeen(path, seen);
  }

  at(path: string): SeenOnPage | undefined {
    return this.seen.get(path);
  }

  get count(): number {
    return this.seen.size;
  }

  async note(one: SeenOnPage): Promise<void> {
    await appendFile(this.path, `${JSON.stringify(one)}\n`);
  }

  /** Once all is compared, nothing of it is needed. */
  async done(): Promise<void> {
    await rm(this.path, { force: true });
  }
}

/** A line as it was written; undefined for one that was cut off. */
function parsed(line: string | undefined): unknown {
  try {
    return JSON.parse(line ?? '');
  } catch {
    return undefined;
  }
}

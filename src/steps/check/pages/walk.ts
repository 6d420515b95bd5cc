import { setTimeout as pause } from 'node:timers/promises';
import pMap from 'p-map';
import { comparePages, look, type PageComparison } from '../../../core/pages/compare/compare-pages.js';
import type { Look } from '../../../core/pages/compare/page-pair.js';
import type { PageQueue } from '../../../core/pages/site/queue.js';
import type { SeenPage, WebSite } from '../../../ends/http/web-site.js';
import type { StepRun } from '../../move/step.js';
import { asIfEncrypted, type BothSites } from '../site/both-sites.js';
import type { AssetOnPage } from './assets.js';
import type { PagesSeen } from './seen-before.js';

/** What a walk through the old site gave. */
export interface Walked {
  readonly pages: PageComparison[];
  /** How many pages are known. */
  readonly known: number;
  /** What the new pages load, by its address. */
  readonly assets: ReadonlyMap<string, AssetOnPage>;
}

const tries = 3;
/** Milliseconds before a page that failed, or differed, is asked for again. */
const before = 400;
const mostAssets = 1_000;
/** So many pages that differ are compared a second time. */
const mostAgain = 100;

/** What is compared, and how far. */
export interface WalkPlan {
  readonly sites: BothSites;
  readonly queue: PageQueue;
  /** So many pages are compared at most. */
  readonly most: number;
  /** What an interrupted run has compared already. */
  readonly seen: PagesSeen;
  /** Gives more pages once all that are known are compared. */
  more(): Promise<readonly string[]>;
}

/**
 * Compares pages of both sites, several at the same time, from those that are known on, along the links of the old one: a
 * fair sample where there are more than may be compared.
 */
export async function walk(run: StepRun, plan: WalkPlan): Promise<Walked> {
  return new Walk(run, plan).done();
}

class Walk {
  private readonly pages: PageComparison[] = [];
  private readonly assets = new Map<string, AssetOnPage>();
  private active = 0;
  private askedForMore = false;
  private readonly waiting: (() => void)[] = [];

  private readonly run: StepRun;
  private readonly plan: WalkPlan;

  constructor(run: StepRun, plan: WalkPlan) {
    this.run = run;
    this.plan = plan;
  }

  async done(): Promise<Walked> {
    await Promise.all(Array.from({ length: workersOf(this.plan.sites) }, () => this.work()));
    await this.askAgain();
    this.pages.sort((a, b) => (a.path < b.path ? -1 : 1));
    return { pages: this.pages, known: this.plan.queue.known, assets: this.assets };
  }

  private async work(): Promise<void> {
    for (let path = await this.next(); path !== undefined; path = await this.next()) {
      try {
        const { page, links, assets } = this.plan.seen.at(path) ?? (await this.compare(path));
        this.pages.push(page);
        for (const link of links) this.plan.queue.add(link);
        for (const one of assets)
          if (this.assets.size < mostAssets && !this.assets.has(one.path)) this.assets.set(one.path, one);
        this.progress(path);
      } finally {
        this.active--;
        for (const wake of this.waiting.splice(0)) wake();
      }
    }
  }

  /** The next page; waits while others may still name one. */
  private async next(): Promise<string | undefined> {
    const { queue, most } = this.plan;
    for (;;) {
      this.run.signal.throwIfAborted();
      const path = queue.taken < most ? queue.take() : undefined;
      if (path !== undefined) {
        this.active++;
        return path;
      }
      if (queue.taken >= most) return undefined;
      if (this.active > 0) await new Promise<void>(resolve => this.waiting.push(resolve));
      else if (this.askedForMore) return undefined;
      else {
        this.askedForMore = true;
        this.active++;
        try {
          for (const more of await this.plan.more()) queue.add(more, true);
        } finally {
          this.active--;
          for (const wake of this.waiting.splice(0)) wake();
        }
      }
    }
  }

  private async compare(
    path: string,
  ): Promise<{ page: PageComparison; links: string[]; assets: AssetOnPage[] }> {
    const { sites, seen } = this.plan;
    const [first, next] = await Promise.all([this.ask(sites.old, path), this.ask(sites.new, path)]);
    const again = first instanceof Error ? first : await this.ask(sites.old, path);
    if (first instanceof Error || again instanceof Error || next instanceof Error) {
      const isNew = !(first instanceof Error || again instanceof Error);
      const error = [first, again, next].find(one => one instanceof Error) as Error;
      return { page: notCompared(path, isNew ? 'new' : 'old', error), links: [], assets: [] };
    }
    const [old, other, found] = [
      await look(first),
      await look(again),
      await look(asIfEncrypted(next, sites)),
    ];
    const page = await comparePages({ path, old, again: other, next: found }, sites.compared);
    const result = { page, links: linksOf(old, sites.old), assets: assetsOf(path, old, found, sites) };
    await seen.note(result);
    return result;
  }

  /**
   * Compares pages once more that differ: what changes with the time of day, by chance, or because the server was busy is
   * hardly the same twice. By then all of the site's noise is known.
   */
  private async askAgain(): Promise<void> {
    const { sites } = this.plan;
    const differing = this.pages.filter(({ differences }) => differences.length > 0).slice(0, mostAgain);
    if (differing.length === 0) return;
    await pause(before, undefined, { signal: this.run.signal });
    const once = async (page: PageComparison) => {
      const { path } = page;
      const [old, next] = await Promise.all([this.ask(sites.old, path), this.ask(sites.new, path)]);
      const [again, nextAgain] = await Promise.all([this.ask(sites.old, path), this.ask(sites.new, path)]);
      if ([old, next, again, nextAgain].some(one => one instanceof Error)) return;
      const [a, b, c, d] = [old, again, next, nextAgain] as SeenPage[];
      const looks = {
        path,
        old: await look(a!),
        again: await look(b!),
        next: await look(asIfEncrypted(c!, sites)),
        nextAgain: await look(asIfEncrypted(d!, sites)),
      };
      this.pages[this.pages.indexOf(page)] = await comparePages(looks, sites.compared);
    };
    await pMap(differing, once, { concurrency: Math.ceil(sites.atOnce / 2), signal: this.run.signal });
  }

  /** A page, asked for several times where no answer comes. */
  private async ask(site: WebSite, path: string): Promise<SeenPage | Error> {
    for (let attempt = 1; ; attempt++) {
      try {
        return await site.get(path, this.run.signal);
      } catch (error) {
        this.run.signal.throwIfAborted();
        if (attempt === tries) return error as Error;
        await pause(before * attempt, undefined, { signal: this.run.signal });
      }
    }
  }

  private progress(path: string): void {
    const { queue, most } = this.plan;
    const of = Math.min(queue.known, most);
    this.run.events({
      type: 'progress',
      what: path,
      done: this.pages.length,
      of,
      unit: 'pages',
      more: queue.known > queue.taken && of < most,
    });
  }
}

/** While some pages are read, others are asked for: the connections are never idle. */
function workersOf({ atOnce }: BothSites): number {
  return atOnce === 1 ? 1 : Math.ceil(atOnce * 1.5);
}

/** A page that one of the sites did not give. */
function notCompared(path: string, end: 'old' | 'new', error: Error): PageComparison {
  const what = `did not answer, though it was asked for ${tries} times: ${error.message}`;
  return {
    path,
    oldStatus: 0,
    newStatus: 0,
    oldTitle: '',
    newTitle: '',
    verdict: 'not compared',
    differences:
      end === 'new' ? [{ code: 'page-unreachable', path, where: 'new site', what, like: error.message }] : [],
    before: [],
    expected: [],
    millis: [0, 0],
  };
}

function linksOf({ answer, page }: Look, site: WebSite): string[] {
  const paths = page.links.map(({ target }) => site.pathOf(target.replace(/#.*/, ''), answer.address));
  return [...new Set(paths.filter(path => path !== undefined))];
}

function assetsOf(path: string, old: Look, next: Look, sites: BothSites): AssetOnPage[] {
  const there = new Map<string, string>();
  for (const { target } of old.page.assets) {
    const at = sites.old.pathOf(target, old.answer.address);
    if (at !== undefined) there.set(lastPart(at), at);
  }
  return next.page.assets.flatMap(({ target, kind, where }) => {
    const at = sites.new.pathOf(target, next.answer.address);
    if (at === undefined || kind === 'frame') return [];
    return [{ path: at, kind, where, page: path, old: there.get(lastPart(at)) }];
  });
}

function lastPart(path: string): string {
  return path.split('/').slice(-3).join('/');
}

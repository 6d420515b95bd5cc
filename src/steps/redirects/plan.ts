import pMap from 'p-map';
import { formatAddress } from '../../core/address/address.js';
import {
  type Home,
  homeOf,
  pathBelow,
  type WantedTarget,
  wantedTarget,
} from '../../core/redirects/plan/decide.js';
import { type KnownPage, KnownPages } from '../../core/redirects/plan/known-pages.js';
import { type LikelyPage, LikelyPages, type PageLooks } from '../../core/redirects/plan/likeness.js';
import type { ListLine } from '../../core/redirects/plan/list.js';
import { type ProposedRule, proposedRules } from '../../core/redirects/plan/rule-proposals.js';
import { redirector } from '../../core/redirects/redirect-of.js';
import { keyOfPage } from '../../core/redirects/singles.js';
import { familyNamed } from '../../core/site/families/families.js';
import type { Family } from '../../core/site/families/family.js';
import { counted } from '../../core/text/numbers.js';
import type { WebSite } from '../../ends/http/web-site.js';
import { allowedBy, robotsOf } from '../check/site/robots.js';
import { readSitemaps } from '../check/site/seeds.js';
import type { StepRun } from '../move/step.js';
import { type AskedPage, PageAsker } from './ask.js';
import { addData, addLogs, addSitemaps, askOldPages, type LookedAt } from './gather.js';
import type { ReadLogs } from './logs.js';
import type { PlannedPage, SortedLines } from './plan-lines.js';
import { type MoveRedirects, redirectsWith } from './set.js';

/** An old page that the new site has no page for, as far as is known. */
export interface PageWithoutHome {
  readonly page: string;
  readonly hits: number;
  readonly bots: number;
  /** What the new site answers where it leads. */
  readonly status: number;
  readonly likely: readonly LikelyPage[];
}

/** What a plan found out. */
export interface RedirectPlan {
  readonly pages: readonly PlannedPage[];
  readonly without: readonly PageWithoutHome[];
  readonly looked: readonly LookedAt[];
  readonly lines: SortedLines;
  readonly proposals: readonly ProposedRule[];
  readonly logs: ReadLogs;
  /** Whether the new site was asked. */
  readonly asked: boolean;
  /** Pages that the old site itself does not have any more. */
  readonly goneBefore: number;
}

/** Sites and what is known of them. */
export interface PlanSites {
  readonly old: WebSite | undefined;
  readonly new: WebSite | undefined;
  readonly atOnce: number;
}

/** So many pages of the new site are looked at to find a home for one. */
const mostNewPages = 5_000;
/** A proposal this good counts as one of the pages that a rule is made of. */
const surely = 0.9;

/** Gathers the addresses that the old site is known by, and asks the new one whether it has each. */
export async function planRedirects(
  run: StepRun,
  sites: PlanSites,
  { persons, own }: SortedLines,
): Promise<RedirectPlan> {
  const { move } = run;
  // What the last plan wrote is found out anew.
  const redirects = redirectsWith(move, persons);
  const { set } = redirects;
  const manifest = await move.crate.manifest().catch(() => undefined);
  const family = familyNamed(manifest?.from.family ?? '');
  const pages = new KnownPages(set.from);
  for (const { from } of [...persons, ...own]) pages.add(from, 'list');
  const looked: LookedAt[] = [await addData(run, pages)];
  const { looked: lookedAtLogs, logs } = await addLogs(run, set, family, pages);
  const answers = sites.old
    ? await askOld(run, sites.old, { family, pages, looked, atOnce: sites.atOnce })
    : new Map();
  if (!sites.old)
    looked.push({ what: 'sitemaps', seen: false, text: 'the old site cannot be asked (old.reach)' });
  looked.push(lookedAtLogs);
  const judgement = new Judgement(run, sites, redirects, answers);
  const all = pages.all().filter(page => !isAside(page.page));
  const judged = await judgement.all(all);
  const without = sites.new
    ? await withHomes(run, sites.new, { family, judgement, atOnce: sites.atOnce, answers })
    : [];
  const moved = [
    ...judged.flatMap(({ page, by, target }) =>
      by === 'new place' ? [[page, pathBelow(target!, set.to)] as const] : [],
    ),
    ...without.flatMap(({ page, likely: [best] }) =>
      best && best.score >= surely && best.by.includes('name') ? [[page, best.page] as const] : [],
    ),
  ];
  return {
    pages: judged,
    without,
    looked,
    lines: { persons: withHits(persons, all, set.from), own: ownLines(judged, without, persons, redirects) },
    proposals: proposedRules(moved),
    logs,
    asked: sites.new !== undefined,
    goneBefore: judgement.goneBefore,
  };
}

/** Certificates are proved there; no page is. */
function isAside(page: string): boolean {
  return page.startsWith('/.well-known/');
}

async function askOld(
  run: StepRun,
  old: WebSite,
  {
    family,
    pages,
    looked,
    atOnce,
  }: { family: Family; pages: KnownPages; looked: LookedAt[]; atOnce: number },
): Promise<Map<string, AskedPage>> {
  const robots = await robotsOf(run, old);
  looked.push(await addSitemaps(run, old, { family, robots }, pages));
  const known = pages.size;
  const url = `${formatAddress(old.address)}/`;
  pages.add('/', 'link');
  const allows = allowedBy(robots, new URL('/robots.txt', url).href);
  const answers = await askOldPages(run, old, pages, {
    most: run.move.sheet.check.pages,
    atOnce,
    mayVisit: link => allows(link, 'able-porter'),
  });
  looked.push({
    what: 'crawl',
    seen: true,
    text: `${counted(answers.size, 'page')} asked for, ${counted(pages.size - known, 'more address', 'more addresses')} by links`,
  });
  return answers;
}

/** Finds out of every page where it leads and whether the new site has that. */
class Judgement {
  goneBefore = 0;
  /** Pages without a home, by their keys. */
  readonly missing = new Map<string, { readonly page: KnownPage; readonly status: number }>();
  /** What the new site shows, by URL. */
  readonly next = new Map<string, AskedPage>();
  /** Of the new site. */
  readonly asker: PageAsker | undefined;
  private readonly run: StepRun;
  private readonly sites: PlanSites;
  private readonly redirects: MoveRedirects;
  private readonly old: ReadonlyMap<string, AskedPage>;

  constructor(run: StepRun, sites: PlanSites, redirects: MoveRedirects, old: ReadonlyMap<string, AskedPage>) {
    this.run = run;
    this.sites = sites;
    this.asker = sites.new && new PageAsker(sites.new, run.signal);
    this.redirects = redirects;
    this.old = old;
  }

  async all(pages: readonly KnownPage[]): Promise<PlannedPage[]> {
    const { set } = this.redirects;
    const answers = redirector(set);
    const here = pages.filter(page => !this.isGoneBefore(page));
    let done = 0;
    const judged = await pMap(
      here,
      async page => {
        const wanted = wantedTarget(page, this.old.get(page.key), set, answers);
        const planned = await this.judge(page, wanted);
        this.run.events({
          type: 'progress',
          what: page.page,
          done: ++done,
          of: here.length,
          unit: 'pages',
          stream: 'new',
        });
        return planned;
      },
      { concurrency: this.sites.atOnce, signal: this.run.signal },
    );
    return this.withHomesOfAliases(judged);
  }

  /** A page that the old site does not have either leads nowhere today; nothing is lost. */
  private isGoneBefore({ key, sources }: KnownPage): boolean {
    const old = this.old.get(key);
    const isGone = old !== undefined && old.status >= 400 && !sources.includes('list');
    if (isGone) this.goneBefore++;
    return isGone;
  }

  private async judge(page: KnownPage, { by, target, rule, otherwise }: WantedTarget): Promise<PlannedPage> {
    const old = this.old.get(page.key);
    const base = {
      ...page,
      by,
      ...(rule === undefined ? {} : { rule }),
      ...(old ? { old: old.status } : {}),
    };
    const { set } = this.redirects;
    const url = target ?? (by === 'nothing' ? formatAddress(set.to) + page.page : undefined);
    if (url === undefined) return base;
    const planned = { ...base, ...(target === undefined ? {} : { target }) };
    const [home, status] = await this.homeAt(url, old);
    if (home === undefined) return planned;
    if (home.kind === 'there') return { ...planned, status };
    if (home.kind === 'moved')
      return { ...planned, by: by === 'single' ? by : 'new place', target: home.to, status };
    const [other, itsStatus] = otherwise === undefined ? [undefined, 0] : await this.homeAt(otherwise, old);
    if (other && other.kind !== 'missing')
      return {
        ...planned,
        by: 'new place',
        target: other.kind === 'moved' ? other.to : otherwise!,
        status: itsStatus,
      };
    if (by !== 'single') this.missing.set(page.key, { page, status: home.status });
    return { ...planned, status: home.status };
  }

  private async homeAt(url: string, old: AskedPage | undefined): Promise<[Home | undefined, number]> {
    const next = await this.ask(url);
    return next ? [homeOf(url, next, old, this.redirects.set.to), next.status] : [undefined, 0];
  }

  /**
   * Gives a page the home of another one that the old site redirects to it: both are the same to the old site, which often knows the
   * other by a number that has stayed.
   */
  private withHomesOfAliases(judged: readonly PlannedPage[]): PlannedPage[] {
    const homes = new Map<string, string>();
    for (const { key, by, target } of judged) {
      const led = this.old.get(key)?.led;
      const main = led === undefined ? undefined : keyOfPage(led, this.redirects.set.from);
      if (by === 'new place' && main !== undefined && main !== key) homes.set(main, target!);
    }
    return judged.map(page => {
      const target = homes.get(page.key);
      if (target === undefined || !this.missing.delete(page.key)) return page;
      return { ...page, by: 'new place', target, status: 200 };
    });
  }

  /** What the new site answers; undefined where it is not asked. */
  private async ask(url: string): Promise<AskedPage | undefined> {
    const plain = url.replace(/#.*/s, '');
    const path = this.sites.new?.pathOf(plain, plain);
    if (path === undefined) return undefined;
    const known = this.next.get(plain);
    if (known) return known;
    const answer = await this.asker!.ask(path);
    this.next.set(plain, answer);
    return answer;
  }
}

/** The pages without a home, each with the likeliest new pages. */
async function withHomes(
  run: StepRun,
  site: WebSite,
  {
    family,
    judgement,
    atOnce,
    answers,
  }: { family: Family; judgement: Judgement; atOnce: number; answers: ReadonlyMap<string, AskedPage> },
): Promise<PageWithoutHome[]> {
  const { missing, next, asker } = judgement;
  if (missing.size === 0) return [];
  const looks = await newPages(run, site, { family, next, atOnce, asker: asker! });
  const likely = new LikelyPages(looks);
  return [...missing.values()].map(({ page, status }) => {
    const { key, hits, bots } = page;
    const old = answers.get(key);
    const look = { page: page.page, title: old?.title ?? '', text: old?.text ?? '' };
    return { page: page.page, hits, bots, status, likely: likely.for(look) };
  });
}

/** What pages the new site has: those of its sitemaps and its front page, and those that were asked for. */
async function newPages(
  run: StepRun,
  site: WebSite,
  {
    family,
    next,
    atOnce,
    asker,
  }: { family: Family; next: Map<string, AskedPage>; atOnce: number; asker: PageAsker },
): Promise<PageLooks[]> {
  const sitemaps = await readSitemaps(run, site, family, await robotsOf(run, site));
  const front = await asker.ask('/');
  const urls = [...sitemaps.flatMap(({ pages }) => pages), ...front.links].map(url =>
    url.replace(/#.*/s, ''),
  );
  const looks = new Map<string, PageLooks>();
  const add = (url: string, { status, led, title, text }: AskedPage) => {
    const page = site.pathOf(led ?? url, led ?? url);
    if (page !== undefined && status < 300 && status > 0) looks.set(page, { page, title, text });
  };
  for (const [url, answer] of next) add(url, answer);
  const waiting = [...new Set(urls)]
    .filter(url => site.pathOf(url, url) !== undefined && !next.has(url))
    .slice(0, mostNewPages);
  let done = 0;
  await pMap(
    waiting,
    async url => {
      add(url, await asker.ask(site.pathOf(url, url)!));
      run.events({
        type: 'progress',
        what: url,
        done: ++done,
        of: waiting.length,
        unit: 'pages',
        stream: 'new',
      });
    },
    { concurrency: atOnce, signal: run.signal },
  );
  return [...looks.values()];
}

const reasons: Partial<Record<PlannedPage['by'], string>> = {
  'earlier redirect': 'the old site redirects it already',
  'new place': 'the new site has it there',
};

/** The lines that the plan adds: what needs a target of its own, and what has none yet. */
function ownLines(
  judged: readonly PlannedPage[],
  without: readonly PageWithoutHome[],
  persons: readonly ListLine[],
  { set }: MoveRedirects,
): ListLine[] {
  const taken = new Set(persons.map(({ from }) => keyOfPage(from, set.from)));
  const open = new Map(without.map(one => [one.page, one]));
  return judged.flatMap(({ page, key, by, target, hits }) => {
    if (taken.has(key)) return [];
    const line = { from: page, status: '', hits: String(hits), more: {} };
    const homeless = open.get(page);
    if (homeless) {
      const [best] = homeless.likely;
      const hint = best
        ? `; most like ${best.page} (${best.score.toFixed(2)}: ${best.by.join(', ') || 'a little'})`
        : '';
      return [{ ...line, to: '', why: `no page there yet (${homeless.status})${hint}` }];
    }
    const why = reasons[by];
    if (why === undefined || target === undefined) return [];
    return [{ ...line, to: pathBelow(target, set.to), why }];
  });
}

/** The same lines with the hits of today. */
function withHits(
  lines: readonly ListLine[],
  pages: readonly KnownPage[],
  from: Parameters<typeof keyOfPage>[1],
): ListLine[] {
  const hits = new Map(pages.map(page => [page.key, page.hits]));
  return lines.map(line => {
    const known = hits.get(keyOfPage(line.from, from) ?? '');
    return known ? { ...line, hits: String(known) } : line;
  });
}

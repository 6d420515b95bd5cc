import { formatAddress } from '../core/address/address.js';
import { type Finding, finding } from '../core/findings/findings.js';
import { dialects, usualDialect } from '../core/redirects/dialects/dialects.js';
import type { ListLine } from '../core/redirects/plan/list.js';
import type { ProposedRule } from '../core/redirects/plan/rule-proposals.js';
import { listed } from '../core/text/listed.js';
import { agreeing, counted } from '../core/text/numbers.js';
import type { Move } from './move/open.js';
import { askableSiteOf } from './move/sites.js';
import { doStep, type StepOutcome, type StepRun } from './move/step.js';
import { type Acceptance, accepted } from './redirects/accept.js';
import { costFindings } from './redirects/costs.js';
import { type WrittenDialect, writeDialects } from './redirects/files.js';
import type { LookedAt } from './redirects/gather.js';
import { type PageWithoutHome, type PlanSites, planRedirects, type RedirectPlan } from './redirects/plan.js';
import { keepPages, type PlannedPage, sortLines, writeLines } from './redirects/plan-lines.js';
import { listFile, redirectsOf, staysThere } from './redirects/set.js';

export interface RedirectsResult {
  readonly from: string;
  readonly to: string;
  /** Written for each kind of web server, the one that the sheet names first; none where nothing is redirected. */
  readonly files: readonly WrittenDialect[];
  /** `redirects.csv`, which a person edits. */
  readonly list: string | undefined;
  readonly looked: readonly LookedAt[];
  /** How many addresses are known, and what leads them on. */
  readonly known: number;
  readonly by: readonly { readonly what: string; readonly pages: number; readonly good: number }[];
  /** Whether the new site was asked for each target. */
  readonly asked: boolean;
  /** How many lead to a page. */
  readonly good: number;
  /** Asked for most often first. */
  readonly without: readonly PageWithoutHome[];
  /** How many the old site itself does not have any more. */
  readonly goneBefore: number;
  readonly proposals: readonly ProposedRule[];
}

/** How the plan of the redirects is made. */
export interface RedirectsOptions {
  /** Which of the likeliest pages are taken as targets. */
  readonly accept?: Acceptance | undefined;
}

/**
 * Plans the redirects: gathers every address that the old site is known by, asks the new site for the target of each, writes what needs
 * one of its own into `redirects.csv`, and writes the rules for each kind of web server.
 */
export async function redirects(
  run: StepRun,
  { accept }: RedirectsOptions = {},
): Promise<StepOutcome<RedirectsResult>> {
  const { move } = run;
  const before = await redirectsOf(move);
  const { old, redirects: wish, new: next } = move.sheet;
  const taken = (await move.crate.manifest().catch(() => undefined))?.taken;
  const inputsWith = (lines: readonly ListLine[]) => ({
    old,
    next,
    wish,
    check: move.sheet.check.pages,
    taken,
    lines,
  });
  return doStep(run, 'redirects', inputsWith(before.lines), async findings => {
    const [from, to] = [formatAddress(move.oldAddress), formatAddress(move.newAddress)];
    const hasOwn = before.set.singles.length + before.set.rules.length > 0;
    if (staysThere(move) && !hasOwn) {
      findings.add(notNeeded(from));
      return { result: { ...nothing, from, to }, brief: {} };
    }
    const sites = sitesOf(run);
    try {
      const lines = await sortLines(move, before.lines, before.set.from);
      const plan = await planRedirects(run, sites, lines);
      const chosen = accept ? accepted(plan, accept) : plan;
      await writeLines(move, chosen.lines, before.set.from);
      await keepPages(move, chosen.pages);
      const after = await redirectsOf(move);
      const files = await writeDialects(
        move,
        after.set,
        chosen.pages.map(({ page }) => page),
      );
      findings.add(...after.findings, ...planFindings(move, chosen));
      findings.add(...(await costFindings(run, after.set, sites.old, plan.logs)));
      const result = resultOf(move, chosen, files);
      const brief = { known: result.known, good: result.good, without: result.without.length };
      return { result, brief, inputs: inputsWith(after.lines) };
    } finally {
      await Promise.all([sites.old?.close(), sites.new?.close()]);
    }
  });
}

const nothing: Omit<RedirectsResult, 'from' | 'to'> = {
  files: [],
  list: undefined,
  looked: [],
  known: 0,
  by: [],
  asked: false,
  good: 0,
  without: [],
  goneBefore: 0,
  proposals: [],
};

/** Both sites, as far as they can be asked: before the cutover, the name may lead to the other one. */
function sitesOf({ move, rate, oneByOne }: StepRun): PlanSites {
  const atOnce = oneByOne ? 1 : Math.min(move.sheet.check['at-once'], rate.atOnce);
  const options = { atOnce, looksAnyway: true };
  const { old, new: next } = move.sheet;
  const isSame =
    next.reach === undefined && old.reach === undefined && move.oldAddress.host === move.newAddress.host;
  return {
    old: askableSiteOf(move, 'old', options),
    new: isSame ? undefined : askableSiteOf(move, 'new', options),
    atOnce,
  };
}

function notNeeded(place: string): Finding {
  return finding({
    level: 'note',
    code: 'redirects-not-needed',
    place,
    what: 'The address stays the same, so no redirects are needed',
    remedy: 'Nothing needs to be done; what moved within the site can be written into redirects.csv',
  });
}

function planFindings(
  move: Move,
  { pages, without, looked, proposals, asked, logs }: RedirectPlan,
): Finding[] {
  const findings: Finding[] = [];
  const address = formatAddress(move.newAddress);
  if (without.length > 0) {
    const hits = without.reduce((sum, one) => sum + one.hits, 0);
    findings.push(
      finding({
        level: 'warn',
        code: 'redirect-without-home',
        place: listFile,
        what: `${counted(without.length, 'old page has', 'old pages have')} no home at the new site${hits > 0 ? ` (${counted(hits, 'hit')} by people)` : ''}: ${listed(without.map(({ page }) => page))}`,
        remedy: `Fill in ${agreeing(without.length, 'its target', 'their targets')} in ${listFile}, or status 410 for what is gone; "able-porter redirects --accept 0.9" takes the likeliest pages`,
      }),
    );
  }
  const failing = pages.filter(
    ({ by, status }) => by === 'single' && status !== undefined && (status === 0 || status >= 400),
  );
  if (failing.length > 0)
    findings.push(
      finding({
        level: 'warn',
        code: 'redirect-target-fails',
        place: listFile,
        what: `The ${agreeing(failing.length, 'target', 'targets')} of ${counted(failing.length, 'line')} of ${listFile} ${agreeing(failing.length, 'does', 'do')} not answer with a page: ${listed(failing.map(({ page, target, status }) => `${page} → ${target} (${status === 0 ? 'no answer' : status})`))}`,
        remedy: 'Correct the lines, then run "able-porter redirects" again',
      }),
    );
  for (const { from, to, pages: count, example } of proposals)
    findings.push(
      finding({
        level: 'note',
        code: 'redirect-rule-proposed',
        place: 'redirects.rules',
        what: `${counted(count, 'page')} moved by one rule, as ${example[0]} to ${example[1]}`,
        remedy: `Add to redirects.rules: { from: ${JSON.stringify(from)}, to: ${JSON.stringify(to)} }`,
      }),
    );
  if (!asked)
    findings.push(
      finding({
        level: 'warn',
        code: 'redirect-source-unread',
        place: 'new.reach',
        what: 'No target was asked for: the sheet does not say where the new site can be reached before the DNS changes',
        remedy: `Add new.reach, such as http://198.51.100.20, once ${address} is up there`,
      }),
    );
  const unread = [
    ...looked.filter(({ seen }) => !seen).map(({ what, text }) => `${what} (${text})`),
    ...logs.unread,
  ];
  if (unread.length > 0)
    findings.push(
      finding({
        level: logs.unread.length > 0 ? 'warn' : 'note',
        code: 'redirect-source-unread',
        place: formatAddress(move.oldAddress),
        what: `Old addresses were not looked for in: ${unread.join('; ')}`,
        remedy: 'Give the plan what it needs, then run "able-porter redirects" again',
      }),
    );
  return [...findings, ...refusedFindings(move, pages)];
}

/** Pages that the old host's server answers itself, whatever the rules say. */
function refusedFindings(move: Move, pages: readonly PlannedPage[]): Finding[] {
  const wanted = move.sheet.redirects.server ?? usualDialect;
  const dialect = dialects.find(({ name }) => name === wanted)!;
  if (!('refuses' in dialect)) return [];
  const refused = pages.flatMap(({ page }) => {
    const why = dialect.refuses(page);
    return why === undefined ? [] : [`${page} (${why})`];
  });
  if (refused.length === 0) return [];
  return [
    finding({
      level: 'warn',
      code: 'redirect-server-cannot',
      place: formatAddress(move.oldAddress),
      what: `${counted(refused.length, 'address', 'addresses')} cannot be redirected there: ${listed(refused)}`,
      remedy: 'Nothing can be done at that server; links to them should be changed',
    }),
  ];
}

function resultOf(move: Move, plan: RedirectPlan, files: readonly WrittenDialect[]): RedirectsResult {
  const { pages, without, looked, goneBefore, proposals, asked } = plan;
  const isGood = ({ status }: PlannedPage) => status !== undefined && status > 0 && status < 300;
  const { rules } = move.sheet.redirects;
  const names = new Map<string, PlannedPage[]>();
  for (const page of pages) {
    const what = page.by === 'rule' ? `rule ${rules[page.rule!]?.from}` : labels[page.by];
    names.set(what, [...(names.get(what) ?? []), page]);
  }
  return {
    from: formatAddress(move.oldAddress),
    to: formatAddress(move.newAddress),
    files,
    list: move.folder.at(listFile),
    looked,
    known: pages.length,
    by: [...names].map(([what, list]) => ({ what, pages: list.length, good: list.filter(isGood).length })),
    asked,
    good: pages.filter(isGood).length,
    without,
    goneBefore,
    proposals,
  };
}

const labels: Readonly<Record<PlannedPage['by'], string>> = {
  single: `a line of ${listFile}`,
  rule: 'a rule',
  'same path': 'the same path',
  'earlier redirect': 'where the old site redirects it already',
  'new place': 'where the new site has it',
  gone: 'gone on purpose (410)',
  nothing: 'stays where it is',
};

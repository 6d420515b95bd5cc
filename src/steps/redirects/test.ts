import pMap from 'p-map';
import { formatAddress } from '../../core/address/address.js';
import { UsageError } from '../../core/errors.js';
import { type Finding, finding } from '../../core/findings/findings.js';
import { requestTo } from '../../core/redirects/follow.js';
import { redirector } from '../../core/redirects/redirect-of.js';
import { listed } from '../../core/text/listed.js';
import { counted } from '../../core/text/numbers.js';
import type { SeenPage, WebSite } from '../../ends/http/web-site.js';
import { askableSiteOf } from '../move/sites.js';
import type { StepRun } from '../move/step.js';
import { plannedPages } from './plan-lines.js';
import { redirectsOf, staysThere } from './set.js';

/** An address that does not lead where it should. */
export interface WrongRedirect {
  readonly url: string;
  readonly wanted: string;
  readonly got: string;
  readonly fault:
    | 'no answer'
    | 'not redirected'
    | 'other target'
    | 'other status'
    | 'target does not answer'
    | 'target redirects again';
}

/** What a test of the redirects gave. */
export interface RedirectTest {
  /** Where the redirects were asked for. */
  readonly at: string;
  readonly asked: number;
  readonly right: number;
  readonly wrong: readonly WrongRedirect[];
  /** Targets that were asked for at the new site. */
  readonly targets: number;
  /** Of the targets, those at other sites, and all where the new site cannot be asked. */
  readonly targetsNotAsked: number;
}

/** Pages of each other address of the old site that are asked for too. */
const pagesOfOthers = 3;

/** Asks the old host for every address of the plan, as it is now: one hop, the right status and target, and a page there. */
export async function testRedirects(run: StepRun): Promise<{ test: RedirectTest; findings: Finding[] }> {
  const { move } = run;
  const { set, findings } = await redirectsOf(move);
  const pages = await plannedPages(move);
  if (pages.length === 0)
    throw new UsageError({
      doing: 'Testing the redirects',
      cause: 'no address is known yet',
      remedy: 'Run "able-porter redirects" first',
    });
  const here = askableSiteOf(move, staysThere(move) ? 'new' : 'old');
  if (!here)
    throw new UsageError({
      doing: 'Testing the redirects',
      cause: 'the old site’s address is set aside for examples, and old.reach is not given',
      remedy: 'Add old.reach, such as http://192.0.2.10',
    });
  const next = staysThere(move) ? here : askableSiteOf(move, 'new');
  const scheme = here.reached.startsWith('https:') ? 'https' : 'http';
  const [, ...others] = set.from;
  const urls = [
    ...pages.map(({ page }) => formatAddress(set.from[0]) + page),
    ...others.flatMap(address =>
      pages.slice(0, pagesOfOthers).map(({ page }) => formatAddress(address) + page),
    ),
  ];
  const answers = redirector(set);
  const seen = new Map<string, Promise<number | undefined>>();
  let [done, right, notAsked] = [0, 0, 0];
  const tested = await pMap(
    urls,
    async url => {
      const wanted = answers({ ...requestTo(url), scheme });
      const wrong = wanted ? await wrongOf(url, wanted) : undefined;
      run.events({ type: 'progress', what: url, done: ++done, of: urls.length, unit: 'pages' });
      if (wanted && !wrong) right++;
      return wanted ? { wrong } : undefined;
    },
    { concurrency: Math.min(move.sheet.check['at-once'], run.rate.atOnce), signal: run.signal },
  );
  await Promise.all([here.close(), next?.close()]);
  const wrong = tested.flatMap(one => (one?.wrong ? [one.wrong] : []));
  const test: RedirectTest = {
    at: here.reached,
    asked: tested.filter(one => one !== undefined).length,
    right,
    wrong,
    targets: seen.size,
    targetsNotAsked: notAsked,
  };
  return { test, findings: [...findings, ...wrongFindings(test)] };

  async function wrongOf(
    url: string,
    { status, target = '' }: { readonly status: number; readonly target?: string | undefined },
  ): Promise<WrongRedirect | undefined> {
    const shown = `${status} ${target}`.trim();
    const answer = await asked(here!, url, run.signal);
    if (answer instanceof Error) return { url, wanted: shown, got: answer.message, fault: 'no answer' };
    const led = answer.address === new URL(url).href ? '' : answer.address;
    const got = `${answer.status} ${led}`.trim();
    if (answer.status !== status && (answer.status < 300 || answer.status >= 400 || led === ''))
      return { url, wanted: shown, got, fault: 'not redirected' };
    if (target !== '' && led !== new URL(target).href)
      return { url, wanted: shown, got, fault: 'other target' };
    if (answer.status !== status) return { url, wanted: shown, got, fault: 'other status' };
    if (target === '') return undefined;
    const there = await statusOf(target.replace(/#.*/s, ''));
    if (there === undefined || (there >= 200 && there < 300)) return undefined;
    const fault = there >= 300 && there < 400 ? 'target redirects again' : 'target does not answer';
    return {
      url,
      wanted: shown,
      got: there === 0 ? 'no answer at the target' : `${there} at the target`,
      fault,
    };
  }

  /** What the new site answers; undefined where it is not asked. */
  function statusOf(target: string): Promise<number | undefined> {
    const path = next?.pathOf(target, target);
    if (path === undefined) {
      if (!seen.has(target)) notAsked++;
      const none = Promise.resolve(undefined);
      seen.set(target, none);
      return none;
    }
    const known = seen.get(target);
    if (known) return known;
    const answer = asked(next!, target, run.signal).then(one => (one instanceof Error ? 0 : one.status));
    seen.set(target, answer);
    return answer;
  }
}

/** One answer to a URL; its redirects are not followed. */
async function asked(site: WebSite, url: string, signal: AbortSignal): Promise<SeenPage | Error> {
  for (let attempt = 1; ; attempt++) {
    const answer = await site
      .follow(new URL(url), signal, { isOneHop: true, most: 1024 })
      .catch((error: Error) => error);
    signal.throwIfAborted();
    if (!(answer instanceof Error) || attempt === 3) return answer;
  }
}

function wrongFindings({ wrong, asked: all, at }: RedirectTest): Finding[] {
  if (wrong.length === 0) return [];
  const atTarget = wrong.filter(({ fault }) => fault.startsWith('target'));
  const here = wrong.filter(({ fault }) => !fault.startsWith('target'));
  const findings: Finding[] = [];
  if (here.length > 0)
    findings.push(
      finding({
        level: 'stop',
        code: 'redirect-answers-differ',
        place: at,
        what: `${counted(here.length, 'address', 'addresses')} of ${all} ${here.length === 1 ? 'is' : 'are'} not redirected as planned: ${listed(here.map(({ url, got }) => `${url} (${got})`))}`,
        remedy:
          here.length === all
            ? 'Put the redirects in place first: "able-porter redirects put"'
            : 'See which rule of the server comes first, or put the redirects in place again after a change',
      }),
    );
  if (atTarget.length > 0)
    findings.push(
      finding({
        level: 'stop',
        code: 'redirect-target-fails',
        place: at,
        what: `${counted(atTarget.length, 'address leads', 'addresses lead')} to something else than a page: ${listed(atTarget.map(({ url, got }) => `${url} (${got})`))}`,
        remedy:
          'Give them targets of their own in redirects.csv, then run "able-porter redirects" and "redirects put" again',
      }),
    );
  return findings;
}

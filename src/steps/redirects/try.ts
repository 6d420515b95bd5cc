import { formatAddress } from '../../core/address/address.js';
import type { Finding } from '../../core/findings/findings.js';
import { follow } from '../../core/redirects/follow.js';
import { redirector } from '../../core/redirects/redirect-of.js';
import type { Move } from '../move/open.js';
import { plannedPages } from './plan-lines.js';
import { redirectsOf } from './set.js';

/** Where an address leads, as the redirects are written. */
interface TriedRedirect {
  readonly url: string;
  readonly hops: readonly {
    readonly status: number;
    readonly target: string | undefined;
    readonly by: string;
  }[];
  readonly isLoop: boolean;
}

/** What a trial gave. */
export interface RedirectTrial {
  readonly tried: readonly TriedRedirect[];
  readonly findings: readonly Finding[];
}

/**
 * Evaluates the redirects without asking anybody.
 * @param wishes URLs, or paths below the old address; where there are none, all addresses of the plan and some for each other address
 */
export async function tryRedirects(move: Move, wishes: readonly string[]): Promise<RedirectTrial> {
  const { set, findings } = await redirectsOf(move);
  const answers = redirector(set);
  const base = formatAddress(set.from[0]);
  const known = wishes.length > 0 ? wishes : (await plannedPages(move)).map(({ page }) => page);
  const pages = known.length > 0 ? known : ['/'];
  const urls = pages.map(text =>
    /^https?:\/\//i.test(text) ? new URL(text).href : base + (text.startsWith('/') ? text : `/${text}`),
  );
  const tried = urls.map(url => {
    const { hops, isLoop } = follow(answers, url);
    return {
      url,
      isLoop,
      hops: hops.map(({ status, target, by }) => ({
        status,
        target,
        by:
          by.kind === 'rule'
            ? set.rules[by.number]!.written.from
            : by.kind === 'single'
              ? 'redirects.csv'
              : by.kind,
      })),
    };
  });
  return { tried, findings };
}

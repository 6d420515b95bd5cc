import { pageFindings } from '../../findings/catalogue/pages.js';
import { type Answer, isHtml } from '../read/answer.js';
import { readPage } from '../read/page.js';
import { findDefects } from './defects.js';
import type { Difference } from './difference.js';
import { compareLoaded, compareNamed } from './named.js';
import { Noise } from './noise.js';
import { type ComparedSites, type Look, type LooksAtPage, PagePair } from './page-pair.js';
import { compareHeaders, findOldAddresses } from './response.js';
import { compareShown } from './shown.js';
import { compareStatus } from './status.js';
import { whole } from './urls.js';

/** A page of the new site compared with its old one. */
export interface PageComparison {
  /** Below the address, with a leading slash. */
  readonly path: string;
  readonly oldStatus: number;
  readonly newStatus: number;
  readonly oldTitle: string;
  readonly newTitle: string;
  /** `broken` where one of the differences stops the move, `old fails too` where there is nothing to compare. */
  readonly verdict: 'same' | 'differs' | 'broken' | 'old fails too' | 'not compared';
  readonly differences: readonly Difference[];
  /** Defects of the page that the old one has as well. */
  readonly before: readonly Difference[];
  /** What differs because the move was asked to change it. */
  readonly expected: readonly string[];
  /** Milliseconds to the first byte, at the old and the new site. */
  readonly millis: readonly [old: number, next: number];
}

/** Reads the HTML of an answer. */
export async function look(answer: Answer): Promise<Look> {
  return { answer, page: await readPage(isHtml(answer) ? answer.html : '') };
}

/** Compares a page of both ends: the old one as it should have become, so that only real differences are left. */
export async function comparePages(looks: LooksAtPage, sites: ComparedSites): Promise<PageComparison> {
  const pair = new PagePair(looks, sites);
  const { path, old, again, next } = looks;
  learnNoise(pair);
  const verdict = await verdictOn(pair);
  return {
    path,
    oldStatus: old.answer.status,
    newStatus: next.answer.status,
    oldTitle: old.page.title,
    newTitle: next.page.title,
    verdict,
    differences: pair.differences,
    before: pair.before,
    expected: [...pair.expected],
    millis: [Math.min(old.answer.millis, again.answer.millis), next.answer.millis],
  };
}

async function verdictOn(pair: PagePair): Promise<PageComparison['verdict']> {
  const { old, next } = pair.looks;
  if (old.answer.status >= 400) {
    if (next.answer.status < 500 || old.answer.status >= 500) return 'old fails too';
    compareStatus(pair);
  } else if (compareStatus(pair)) await compareContent(pair);
  if (pair.differences.some(({ code }) => pageFindings[code].levels[0] === 'stop')) return 'broken';
  return pair.differences.length > 0 ? 'differs' : 'same';
}

async function compareContent(pair: PagePair): Promise<void> {
  const { old, next } = pair.looks;
  const expectedHtml = pair.rewritten(old.answer.html);
  compareHeaders(pair);
  await findOldAddresses(pair, expectedHtml);
  findDefects(pair, expectedHtml);
  if (!isHtml(old.answer) || !isHtml(next.answer)) return;
  if (pair.differences.some(({ code }) => code === 'page-blank' || code === 'page-source-shown')) return;
  compareShown(pair);
  compareNamed(pair);
  compareLoaded(pair);
}

/** What changes between two looks at the new page is noise as well. */
function learnNoise({ looks: { next, nextAgain }, sites: { noise } }: PagePair): void {
  if (!nextAgain) return;
  new Noise(next.page.lines, nextAgain.page.lines, noise);
  const urls = ({ page, answer }: Look) => page.links.map(({ target }) => whole(target, answer.address));
  new Noise(urls(next), urls(nextAgain), noise);
}

/** Why a page is not as it was, in one line. */
export function whyOf({ verdict, differences, oldStatus }: PageComparison): string {
  const [first] = differences;
  if (verdict === 'old fails too') return `the old site answers ${oldStatus}`;
  if (!first) return verdict === 'not compared' ? 'one of the sites did not answer' : '';
  return differences.length === 1 ? first.what : `${first.what}, and ${differences.length - 1} more`;
}

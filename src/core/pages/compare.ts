import { applyEdits, bytesOfText, textOf } from '../bytes.js';
import { editsInValue } from '../rewrite/carriers/value.js';
import { unnoted } from '../rewrite/report/observer.js';
import type { Rules } from '../rewrite/terms/rules.js';
import type { Family } from '../site/families/family.js';
import { type Page, readPage } from './page.js';

/** An answer to a request for a page, after redirects. */
export interface Answer {
  readonly status: number;
  readonly html: string;
  /** Where redirects led, or the address asked. */
  readonly address: string;
}

/** What a site shows in place of its pages. */
export type PageTrouble = 'installation page' | 'database error' | 'another address';

/** A page of the new site compared with its old one. */
export interface PageComparison {
  /** Below the address, with a leading slash. */
  readonly path: string;
  readonly oldStatus: number;
  readonly newStatus: number;
  readonly oldTitle: string;
  readonly newTitle: string;
  /** Words of the old page (its addresses rewritten) that the new one has in the same order, 0 to 1. */
  readonly alike: number;
  readonly verdict: 'same' | 'differs' | 'missing' | 'trouble' | 'old fails too';
  readonly why: string;
  /** What the new site shows in place of the page, where the verdict is `trouble`. */
  readonly trouble?: PageTrouble;
  /** Old addresses in the HTML of the new page. */
  readonly oldAddresses: number;
}

/** Compares a page of both ends: the old one as it should have become, so that only real differences are left. */
export async function comparePages(
  path: string,
  old: Answer,
  next: Answer,
  rules: Rules,
  family: Family,
): Promise<PageComparison> {
  const expected = await readPage(rewriteText(old.html, rules));
  const found = await readPage(next.html);
  const moved = absolute(await readPage(old.html), old.address).map(link =>
    whole(rewriteText(link, rules), next.address),
  );
  const oldAddresses = countOldAddresses(next.html, rules);
  const alike = likeness(expected.text, found.text);
  const trouble = family.troubleIn(next.html);
  const base = {
    path,
    oldStatus: old.status,
    newStatus: next.status,
    oldTitle: expected.title,
    newTitle: found.title,
    alike,
    oldAddresses,
  };
  if (old.status >= 400 && next.status >= 400) {
    return { ...base, verdict: 'old fails too', why: `both answer ${next.status}` };
  }
  if (trouble) return { ...base, verdict: 'trouble', trouble, why: `the new site shows the ${trouble}` };
  if (next.status >= 300 && next.status < 400) {
    const why = `the new site sends visitors to ${next.address}`;
    return { ...base, verdict: 'trouble', trouble: 'another address', why };
  }
  if (next.status >= 400) return { ...base, verdict: 'missing', why: `the new site answers ${next.status}` };
  const why: string[] = [];
  if (oldAddresses > 0) why.push(`${oldAddresses} old ${oldAddresses === 1 ? 'address' : 'addresses'} in it`);
  if (expected.title !== found.title) why.push(`the title is "${found.title}"`);
  if (alike < 1) why.push(`the text is ${Math.floor(alike * 100)} % alike`);
  const lost = missing(moved, absolute(found, next.address)).length;
  if (lost > 0) why.push(`${lost} ${lost === 1 ? 'link differs' : 'links differ'}`);
  return { ...base, verdict: why.length > 0 ? 'differs' : 'same', why: why.join(', ') };
}

/** Links and assets of a page as whole addresses; what cannot be one stays as it is written. */
function absolute({ links, assets }: Page, address: string): string[] {
  return [...links, ...assets].map(link => whole(link, address));
}

function whole(link: string, address: string): string {
  return URL.canParse(link, address) ? new URL(link, address).href : link;
}

/** HTML with its old addresses rewritten. */
function rewriteText(html: string, rules: Rules): string {
  const bytes = bytesOfText(html);
  return textOf(applyEdits(bytes, editsInValue(bytes, rules, unnoted)));
}

/** How many old addresses HTML holds, in any form. */
function countOldAddresses(html: string, rules: Rules): number {
  return editsInValue(bytesOfText(html), rules, unnoted).length;
}

/** Twice the words in common (as a multiset), over all words. */
function likeness(a: string, b: string): number {
  if (a === b) return 1;
  const left = a.split(' ');
  const right = b.split(' ');
  const common = left.length - missing(left, right).length;
  return Math.min((2 * common) / (left.length + right.length), 0.99);
}

/** What of `wanted` is not in `found`, each counted as often as it is there. */
function missing(wanted: readonly string[], found: readonly string[]): string[] {
  const at = new Map<string, number>();
  for (const one of found) at.set(one, (at.get(one) ?? 0) + 1);
  return wanted.filter(one => {
    const left = at.get(one) ?? 0;
    at.set(one, left - 1);
    return left <= 0;
  });
}

import { gunzipSync } from 'node:zlib';
import pMap from 'p-map';
import { readSitemap } from '../../../core/pages/site/sitemap.js';
import type { SeenPage, WebSite } from '../../../ends/http/web-site.js';
import type { StepRun } from '../../move/step.js';
import type { BothSites } from './both-sites.js';

/** A sitemap of the old site, with its pages. */
export interface SeenSitemap {
  /** Below the site's address. */
  readonly path: string;
  /** As written. */
  readonly pages: readonly string[];
  readonly sitemaps: readonly string[];
}

const mostSitemaps = 50;
const largestSitemap = 50 * 1024 * 1024;

/** Reads the sitemaps of a site: those that its robots.txt names, those at the usual places, and what they lead to. */
export async function readSitemaps(
  { signal }: Pick<StepRun, 'signal'>,
  site: WebSite,
  family: BothSites['family'],
  robots: string | undefined,
): Promise<SeenSitemap[]> {
  const named = [...(robots ?? '').matchAll(/^\s*sitemap:\s*(\S+)/gim)].map(([, url]) => url!);
  const begin = named.map(url => site.pathOf(url, url)).filter(path => path !== undefined);
  const waiting = [...new Set([...begin, ...(family.web?.sitemaps ?? [])])];
  const found: SeenSitemap[] = [];
  const asked = new Set<string>();
  for (let path = waiting.shift(); path !== undefined && asked.size < mostSitemaps; path = waiting.shift()) {
    if (asked.has(path)) continue;
    asked.add(path);
    const answer = await site.get(path, signal, { most: largestSitemap }).catch(() => undefined);
    signal.throwIfAborted();
    const sitemap = answer && answer.status < 300 ? readSitemap(textOf(answer)) : undefined;
    if (
      !sitemap ||
      found.some(
        one => one.pages.join() === sitemap.pages.join() && one.sitemaps.join() === sitemap.sitemaps.join(),
      )
    )
      continue;
    found.push({ path: site.pathOf(answer!.address, answer!.address) ?? path, ...sitemap });
    waiting.push(...sitemap.sitemaps.map(url => site.pathOf(url, url)).filter(one => one !== undefined));
  }
  return found;
}

/** A sitemap may be a file that is compressed itself. */
export function textOf({ html, content }: SeenPage): string {
  if (content[0] !== 0x1f || content[1] !== 0x8b) return html === '' ? content.toString('utf8') : html;
  try {
    return gunzipSync(content, { maxOutputLength: largestSitemap }).toString('utf8');
  } catch {
    return '';
  }
}

/**
 * Where addresses by which programs know a page (`?p=12`) lead at the old site.
 * @returns paths below its address
 */
export async function resolved(
  { signal }: Pick<StepRun, 'signal'>,
  { old, atOnce }: BothSites,
  paths: readonly string[],
): Promise<string[]> {
  const led = await pMap(
    paths,
    async path => {
      const answer = await old.get(path, signal, { isOneHop: true, most: 1024 }).catch(() => undefined);
      return answer && answer.status < 400 ? old.pathOf(answer.address, answer.address) : undefined;
    },
    { concurrency: atOnce, signal },
  );
  return [...new Set(led.filter(path => path !== undefined))];
}

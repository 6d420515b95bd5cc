import { formatAddress } from '../../address/address.js';
import { requestTo, urlOf } from '../follow.js';
import { redirector } from '../redirect-of.js';
import type { RedirectSet } from '../redirect-set.js';
import type { DialectFile, OldPath, RedirectDialect } from './dialect.js';

/**
 * A small page in place of each known one, for hosts that serve files and nothing else: it leads on with a refresh, and names the new
 * page to search engines (RFC 6596). Pages that differ only in their query cannot be told apart.
 */
export const staticPages = {
  name: 'static',
  title: 'static pages',
  serverHeader: /(?!)/,
  folder: 'static',
  refuses: page => (page.includes('?') ? 'a server of files answers the same to any query' : undefined),
  where: from =>
    `Put the files into the folder that ${formatAddress(from)}/ is served from, in place of the site.`,
  files: (set, pages) => filesOf(set, pages),
  onlyAsked: true,
} as const satisfies RedirectDialect;

function filesOf(set: RedirectSet, pages: readonly OldPath[]): DialectFile[] {
  const answers = redirector(set);
  const files = new Map<string, string>();
  for (const page of ['/', ...pages]) {
    const path = fileOf(page);
    if (path === undefined || files.has(path)) continue;
    const answer = answers(requestTo(urlOf(set, page)));
    if (answer?.target !== undefined) files.set(path, pageTo(answer.target));
  }
  // A name is a file or a folder.
  const folders = new Set([...files.keys()].flatMap(foldersAbove));
  return [...files].filter(([path]) => !folders.has(path)).map(([path, text]) => ({ path, text }));
}

/** The file that a server of files answers with; undefined for a page with a query, or a name that no file should have. */
function fileOf(page: OldPath): string | undefined {
  if (page.includes('?')) return undefined;
  let names: string[];
  try {
    names = page.slice(1).split('/').map(decodeURIComponent);
  } catch {
    return undefined;
  }
  const last = names.pop()!;
  const isFile = /\.(?:html?|xhtml)$/i.test(last);
  if (last !== '' && !isFile) names.push(last);
  const isOdd = (name: string) =>
    !/^[^\0/\\:<>|"*?]+$/.test(name) || /^\.|[. ]$/.test(name) || Buffer.byteLength(name) > 200;
  if ([...names, ...(isFile ? [last] : [])].some(isOdd)) return undefined;
  return [...names, isFile ? last : 'index.html'].join('/');
}

function foldersAbove(path: string): string[] {
  const names = path.split('/');
  return names.slice(1).map((_, i) => names.slice(0, i + 1).join('/'));
}

function pageTo(target: string): string {
  const url = target.replaceAll('&', '&amp;').replaceAll('"', '&quot;').replaceAll('<', '&lt;');
  return `<!doctype html>
<html lang="en"><meta charset="utf-8"><title>This page has moved</title>
<link rel="canonical" href="${url}"><meta http-equiv="refresh" content="0; url=${url}">
<p>This page has moved to <a href="${url}">${url}</a>.</p></html>
`;
}

import { mkdir, rm, writeFile } from 'node:fs/promises';
import { join } from 'node:path';
import { formatAddress } from '../../../core/address/address.js';
import { type Finding, finding } from '../../../core/findings/findings.js';
import type { PageComparison } from '../../../core/pages/compare/compare-pages.js';
import { rewrittenBy } from '../../../core/pages/compare/rewritten.js';
import {
  comparePictures,
  type Looks,
  type PictureComparison,
} from '../../../core/pages/pictures/compare-pictures.js';
import { PageQueue } from '../../../core/pages/site/queue.js';
import { counted } from '../../../core/text/numbers.js';
import { Browser, type BrowserLook, type ViewSize } from '../../../ends/browser/browser.js';
import { findBrowser } from '../../../ends/browser/find-browser.js';
import type { WebSite } from '../../../ends/http/web-site.js';
import type { StepRun } from '../../move/step.js';
import type { BothSites } from '../site/both-sites.js';

/** A page as a browser shows it at both sites. The pictures are files in the move folder. */
export interface LookedAt {
  readonly path: string;
  readonly size: ViewSize['name'];
  /** How much of the picture differs, 0 to 1, apart from what changes on its own. */
  readonly share: number;
  /** The rectangle around all that differs, in pixels. */
  readonly around: PictureComparison['around'];
  readonly old: string;
  readonly new: string;
  /** The new picture with what differs marked; undefined where nothing does. */
  readonly marked: string | undefined;
}

const sizes: readonly ViewSize[] = [
  { name: 'desktop', width: 1280, height: 800 },
  { name: 'phone', width: 390, height: 844 },
];
const mostPages = 10;
/** Smaller differences are those of letters: an address that is shown, a date. */
export const leastShare = 0.001;

/** The folder of the pictures, in the move folder. */
const picturesFolder = 'pictures';

/** Opens pages of every kind at both sites in a browser, and compares what it shows. */
export async function lookAtPages(
  run: StepRun,
  sites: BothSites,
  pages: readonly PageComparison[],
): Promise<{ looks: LookedAt[]; findings: Finding[] }> {
  const { browser: wanted } = run.move.sheet.check;
  const program = await findBrowser(wanted);
  if (program === undefined) return { looks: [], findings: [browserMissing(wanted)] };
  const folder = run.move.folder.at(picturesFolder);
  await rm(folder, { recursive: true, force: true });
  await mkdir(folder, { mode: 0o700 });
  let browser: Browser;
  try {
    browser = await Browser.start(program);
  } catch (error) {
    return { looks: [], findings: [browserMissing(program, (error as Error).message.split('\n')[0])] };
  }
  try {
    const looks: LookedAt[] = [];
    const findings: Finding[] = [];
    const chosen = sampleOf(pages);
    for (const [i, path] of chosen.entries())
      for (const [j, size] of sizes.entries()) {
        run.signal.throwIfAborted();
        const seen = await lookAtPage(
          run,
          { sites, browser, folder, name: `${i + 1}-${size.name}` },
          path,
          size,
        );
        looks.push(...seen.looks);
        findings.push(...seen.findings);
        const done = i * sizes.length + j + 1;
        run.events({
          type: 'progress',
          what: `${path} (${size.name})`,
          done,
          of: chosen.length * sizes.length,
          unit: 'pages',
        });
      }
    looks.sort((a, b) => b.share - a.share);
    return { looks, findings: [...differing(looks, sites.address), ...likeOnes(findings)] };
  } finally {
    await browser.close();
  }
}

/** Pages that both sites have, of every kind. */
function sampleOf(pages: readonly PageComparison[]): string[] {
  const queue = new PageQueue();
  for (const { path, oldStatus, newStatus } of pages)
    if (oldStatus === 200 && newStatus === 200) queue.add(path, true);
  return Array.from({ length: mostPages }, () => queue.take()).filter(path => path !== undefined);
}

interface Looking {
  readonly sites: BothSites;
  readonly browser: Browser;
  readonly folder: string;
  /** Begins the names of the pictures. */
  readonly name: string;
}

async function lookAtPage(
  { signal, move }: StepRun,
  { sites, browser, folder, name }: Looking,
  path: string,
  size: ViewSize,
): Promise<{ looks: LookedAt[]; findings: Finding[] }> {
  const place = `${sites.address}${path} (${size.name})`;
  // An address that is shown is to be another one at the new site.
  const rewrite = rewrittenBy(sites.compared.rules);
  const oldSite = { site: sites.old, urlAt: urlAtOld(sites.old, move.sheet.old.also), retext: rewrite };
  const newSite = {
    site: sites.new,
    urlAt: (url: URL) => (sites.new.pathOf(url.href, url.href) === undefined ? undefined : url),
  };
  const oldUrl = formatAddress(sites.old.address) + path;
  let [olds, news]: BrowserLook[][] = [];
  let compared: PictureComparison;
  try {
    const lookAtOld = () => browser.look(oldSite, oldUrl, size, signal);
    const lookAtNew = () => browser.look(newSite, sites.address + path, size, signal);
    const [first, firstNew] = await Promise.all([lookAtOld(), lookAtNew()]);
    olds = [first, await lookAtOld()];
    news = [firstNew];
    compared = comparePictures(picturesOf(olds), picturesOf(news));
    if (compared.share > 0) {
      // What was only late is there when it is looked at once more, and what changes may look the same twice by chance.
      const [third, later] = await Promise.all([lookAtOld(), lookAtNew()]);
      olds.push(third);
      news.push(later);
      compared = comparePictures(picturesOf(olds), picturesOf(news));
    }
  } catch (error) {
    signal.throwIfAborted();
    const what = `The browser could not open ${path} at both sites: ${(error as Error).message.split('\n')[0]}`;
    return { looks: [], findings: [failed(place, what)] };
  }
  const { share, marked, around } = compared;
  const [oldFile, newFile, markedFile] = ['old', 'new', 'marked'].map(which =>
    join(folder, `${name}-${which}.png`),
  ) as [string, string, string];
  const next = news.at(-1)!;
  await writeFile(oldFile, olds[0]!.picture, { mode: 0o600 });
  await writeFile(newFile, next.picture, { mode: 0o600 });
  if (marked) await writeFile(markedFile, marked, { mode: 0o600 });
  const findings: Finding[] = [];
  const added = (list: readonly string[], before: readonly string[]) => {
    const known = new Set(before.map(line => withoutNumbers(rewrite(line))));
    return [...new Set(list)].filter(line => !known.has(withoutNumbers(line)));
  };
  for (const error of added(
    next.errors,
    olds.flatMap(({ errors }) => errors),
  ))
    findings.push(
      finding({
        level: 'warn',
        code: 'look-console-error',
        place,
        what: `The browser reports an error at the new site that it does not report at the old one: ${error.slice(0, 200)}`,
        remedy: 'Open the page, and look at the console of the browser',
      }),
    );
  for (const one of added(
    next.failed,
    olds.flatMap(({ failed }) => failed),
  ))
    findings.push(failed(place, `The page ${path} of the new site asks for ${one} in vain`));
  return {
    looks: [
      { path, size: size.name, share, around, old: oldFile, new: newFile, marked: marked && markedFile },
    ],
    findings,
  };
}

function picturesOf(looks: readonly BrowserLook[]): Looks {
  const [first, ...others] = looks.map(({ picture }) => picture);
  return [first!, ...others];
}

/** The old site answers under its other addresses too, which its pages may name. */
function urlAtOld(site: WebSite, also: readonly string[]): (url: URL) => URL | undefined {
  const withoutScheme = (url: string) => url.replace(/^https?:/, '');
  return url => {
    if (site.pathOf(url.href, url.href) !== undefined) return url;
    const other = also.find(address => withoutScheme(url.href).startsWith(`${withoutScheme(address)}/`));
    return other === undefined
      ? undefined
      : new URL(formatAddress(site.address) + withoutScheme(url.href).slice(withoutScheme(other).length));
  };
}

function failed(place: string, what: string): Finding {
  return finding({
    level: 'warn',
    code: 'look-request-failed',
    place,
    what,
    remedy: 'Open the page, and look at the network list of the browser',
  });
}

/** Numbers in a message are mostly lines, times or tokens. */
function withoutNumbers(line: string): string {
  return line.replace(/[\da-f]{6,}|\d+/gi, '#');
}

/** What looks different is one finding; the page of pictures shows each. */
function differing(looks: readonly LookedAt[], address: string): Finding[] {
  const odd = looks.filter(({ share }) => share > leastShare);
  const [first] = odd;
  if (!first?.around) return [];
  const some = odd
    .slice(0, 3)
    .map(({ path, size, share }) => `${path} (${size}, ${(share * 100).toFixed(1)} %)`);
  const { x, y, width, height } = first.around;
  return [
    finding({
      level: 'warn',
      code: 'look-differs',
      place: `${address}${first.path}, ${first.size}, ${width} × ${height} pixels at ${x}, ${y}`,
      what: `${odd.length} of ${counted(looks.length, 'picture')} look different at the new site: ${some.join(', ')}${odd.length > some.length ? ` and ${odd.length - some.length} more` : ''}`,
      remedy: 'Look at the pairs in check.html, the worst first',
    }),
  ];
}

/** The same error on many pages is one. */
function likeOnes(findings: readonly Finding[]): Finding[] {
  const byWhat = new Map<string, Finding[]>();
  for (const one of findings) {
    const key = one.code + withoutNumbers(one.what.replace(/^The page \S+ of/, ''));
    byWhat.set(key, [...(byWhat.get(key) ?? []), one]);
  }
  return [...byWhat.values()].map(([first, ...others]) =>
    others.length === 0 ? first! : { ...first!, what: `${first!.what} (and ${others.length} more times)` },
  );
}

function browserMissing(wanted: string | undefined, why?: string): Finding {
  const what =
    why !== undefined
      ? `The browser ${wanted} did not start: ${why}`
      : wanted === undefined
        ? 'No browser was found on this machine, so nothing was looked at with one'
        : `There is no program ${wanted}, so nothing was looked at with a browser`;
  return finding({
    level: 'note',
    code: 'look-browser-missing',
    place: 'check.browser',
    what,
    remedy: 'Install Chromium (Debian: apt install chromium), or name it in check.browser',
  });
}

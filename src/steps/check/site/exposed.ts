import { randomBytes } from 'node:crypto';
import pMap from 'p-map';
import { textOf } from '../../../core/bytes.js';
import type { FileEntry } from '../../../core/files/entries.js';
import { type Finding, finding } from '../../../core/findings/findings.js';
import { headerOf } from '../../../core/pages/read/answer.js';
import { readPage } from '../../../core/pages/read/page.js';
import { dangerOf, isScriptInUploads } from '../../../core/pages/site/exposed.js';
import { counted } from '../../../core/text/numbers.js';
import type { SeenPage, WebSite } from '../../../ends/http/web-site.js';
import { ownFolder } from '../../deliver/files/staging.js';
import type { StepRun } from '../../move/step.js';
import type { BothSites } from './both-sites.js';

const mostAsked = 200;

/** Files of the new end that nobody should be able to fetch, and scripts where none belong. */
export class ExposedFiles {
  private readonly candidates: string[] = [];
  private readonly scripts: string[] = [];
  private readonly family: BothSites['family'];

  constructor(family: BothSites['family']) {
    this.family = family;
  }

  /** Looks at one of what is at the new end. */
  look({ path, type, size }: FileEntry): void {
    if (type !== 'file') return;
    const name = textOf(path);
    if (dangerOf(name) && this.candidates.length < mostAsked) this.candidates.push(name);
    if (isScriptInUploads(name, size, this.family.generated)) this.scripts.push(name);
  }

  /** What is there, and what the new site gives out of it. Without a site nothing is asked for. */
  async findings(run: StepRun, place: string, sites: BothSites | undefined): Promise<Finding[]> {
    const [script] = this.scripts;
    const found: Finding[] = [];
    if (script !== undefined)
      found.push(
        finding({
          level: 'stop',
          code: 'script-in-uploads',
          place: `${place}/${script}`,
          what: `${counted(this.scripts.length, 'script')} ${this.scripts.length === 1 ? 'is' : 'are'} in a folder for uploads: ${this.scripts.slice(0, 3).join(', ')}`,
          remedy: 'Look at it; it is often the trace of an intruder. Remove it at both ends, and pack again',
        }),
      );
    if (sites) found.push(...(await this.fetched(run, sites)));
    return found;
  }

  private async fetched(run: StepRun, sites: BothSites): Promise<Finding[]> {
    const { new: site, address, atOnce } = sites;
    const paths = [
      ...new Set([...this.candidates, ...usual, `${ownFolder(run.move.sheet.name)}/.htaccess`]),
    ].map(path => `/${path.split('/').map(encodeURIComponent).join('/')}`);
    const nothing = await bodyOf(run, site, `/${randomBytes(9).toString('hex')}.txt`);
    const given = await pMap(
      paths,
      async path => {
        const answer = await bodyOf(run, site, path);
        const isSame =
          nothing !== undefined && answer?.status === nothing.status && answer.html === nothing.html;
        const isGiven =
          answer &&
          answer.status === 200 &&
          answer.redirects === 0 &&
          !isSame &&
          !/html/.test(headerOf(answer, 'content-type') ?? '');
        return isGiven ? [path] : [];
      },
      { concurrency: atOnce, signal: run.signal },
    );
    const byDanger = new Map<string, string[]>();
    for (const path of given.flat()) {
      const danger = dangerOf(decodeURIComponent(path.slice(1)));
      if (danger) byDanger.set(danger.what, [...(byDanger.get(danger.what) ?? []), path]);
    }
    const files = [...byDanger].map(([what, all]) =>
      finding({
        level: dangerOf(decodeURIComponent(all[0]!.slice(1)))!.level,
        code: 'file-fetchable',
        place: address + all[0],
        what: `Anybody can fetch ${what} from the new site: ${all.slice(0, 3).join(', ')}${all.length > 3 ? ` and ${all.length - 3} more` : ''}`,
        remedy: 'Remove it from the web root, or let the server refuse it',
      }),
    );
    return [...files, ...(await this.listings(run, sites))];
  }

  private async listings(run: StepRun, { new: site, address }: BothSites): Promise<Finding[]> {
    const listed: string[] = [];
    for (const folder of this.family.generated) {
      const answer = await bodyOf(run, site, `/${folder}`);
      const title = answer && answer.status === 200 ? (await readPage(answer.html)).title : '';
      if (/^(?:Index of|Directory listing)\b/i.test(title)) listed.push(`/${folder}`);
    }
    if (listed.length === 0) return [];
    return [
      finding({
        level: 'warn',
        code: 'folder-listed',
        place: address + listed[0],
        what: `The new server lists the files of ${listed.join(', ')} to visitors`,
        remedy: 'Switch the listing off (Apache: Options -Indexes; nginx: autoindex off)',
      }),
    ];
  }
}

/** What is asked for though nobody knows whether it is there: the server may have it beside the site's own folder. */
const usual = ['.git/HEAD', '.svn/entries', '.env', '.htpasswd'];

async function bodyOf({ signal }: StepRun, site: WebSite, path: string): Promise<SeenPage | undefined> {
  const answer = await site.get(path, signal, { most: 64 * 1024 }).catch(() => undefined);
  signal.throwIfAborted();
  return answer;
}

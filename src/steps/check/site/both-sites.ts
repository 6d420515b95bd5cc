import escapeStringRegexp from 'escape-string-regexp';
import { addressPath, formatAddress } from '../../../core/address/address.js';
import { NoiseMemory } from '../../../core/pages/compare/noise.js';
import type { ComparedSites } from '../../../core/pages/compare/page-pair.js';
import { holdsBack } from '../../../core/sheet/held-back.js';
import type { Family } from '../../../core/site/families/family.js';
import type { SeenPage, WebSite } from '../../../ends/http/web-site.js';
import type { Move } from '../../move/open.js';
import { siteOf } from '../../move/sites.js';
import type { StepRun } from '../../move/step.js';
import { rulesOf } from '../../move/terms.js';

/** Both sites as they are compared. */
export interface BothSites {
  readonly old: WebSite;
  readonly new: WebSite;
  /** The new site's address, without a closing slash. */
  readonly address: string;
  readonly family: Family;
  readonly compared: ComparedSites;
  /** How many pages are asked for at the same time. */
  readonly atOnce: number;
}

/** Opens both sites, each with so many connections as the sheet allows. */
export function openSites({ move, rate, oneByOne }: StepRun, family: Family): BothSites {
  const atOnce = oneByOne ? 1 : Math.min(move.sheet.check['at-once'], rate.atOnce);
  const options = { atOnce, looksAnyway: true };
  const address = formatAddress(move.newAddress);
  return {
    old: siteOf(move, 'old', options),
    new: siteOf(move, 'new', options),
    address,
    family,
    compared: comparedSites(move, family, address),
    atOnce,
  };
}

function comparedSites(move: Move, family: Family, newAddress: string): ComparedSites {
  const { configure, old } = move.sheet;
  const hosts = [old.address, ...old.also].map(address => new URL(address).host.toLowerCase());
  const held = holdsBack(move.sheet);
  return {
    rules: rulesOf(move),
    family,
    oldHosts: [...new Set(hosts)].filter(host => host !== new URL(newAddress).host),
    newAddress,
    oldPath: addressPath(move.oldAddress),
    noise: new NoiseMemory(),
    expected: {
      title: configure.title,
      tagline: configure.tagline,
      searchEngines: configure['search-engines'],
      maintenance: configure.maintenance === 'on',
      heldBack: path => {
        const [, name] = /\/(?:plugins|modules|extensions|components)\/([^/?#]+)/.exec(path) ?? [];
        return name !== undefined && held(name);
      },
    },
  };
}

/**
 * A new page as it will be over HTTPS: where it is reached over HTTP, some programs write the addresses of their own files
 * with the scheme by which they were asked.
 */
export function asIfEncrypted(page: SeenPage, { new: site }: Pick<BothSites, 'new'>): SeenPage {
  if (site.address.scheme !== 'https' || site.reached.startsWith('https:')) return page;
  const host = new URL(`https://${site.address.host}:${site.address.port ?? 443}`).host;
  const own = new RegExp(`http(:(?:\\\\?/){2}${escapeStringRegexp(host)}(?![\\w.-]*\\w|:\\d))`, 'g');
  const html = page.html.replace(own, 'https$1');
  return html === page.html ? page : { ...page, html };
}

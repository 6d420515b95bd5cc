import type { Rules } from '../../rewrite/terms/rules.js';
import type { Family } from '../../site/families/family.js';
import type { Answer } from '../read/answer.js';
import type { Page } from '../read/page.js';
import type { Difference, PageCode } from './difference.js';
import type { NoiseMemory } from './noise.js';
import { leadsToOldSite, rewrittenBy } from './rewritten.js';
import { isChangeTo } from './text.js';
import { whole } from './urls.js';

/** What the move itself changed on request, so that it is expected. */
interface ExpectedChanges {
  readonly title?: string | undefined;
  readonly tagline?: string | undefined;
  readonly searchEngines: 'keep' | 'hide' | 'show';
  /** Whether the new site is to show maintenance. */
  readonly maintenance: boolean;
  /** Whether an asset is part of an extension that is held back. */
  heldBack(path: string): boolean;
}

/** The two sites whose pages are compared. */
export interface ComparedSites {
  readonly rules: Rules;
  readonly family: Family;
  /** Hosts of the old site that the new one does not have, in lower case. */
  readonly oldHosts: readonly string[];
  /** The new site's address, without a closing slash. */
  readonly newAddress: string;
  /** The path of the old one, without a closing slash. */
  readonly oldPath: string;
  readonly expected: ExpectedChanges;
  /** What is known to change on its own. */
  readonly noise: NoiseMemory;
}

/** An answer with what its HTML says. */
export interface Look {
  readonly answer: Answer;
  readonly page: Page;
}

/** Two looks at the old page and one at the new one. */
export interface LooksAtPage {
  readonly path: string;
  readonly old: Look;
  /** Asked again, to see what changes on its own. */
  readonly again: Look;
  readonly next: Look;
  /** Another look at the new page, where it was asked again too. */
  readonly nextAgain?: Look;
}

/** A page of both sites while it is compared: where every part of the comparison notes what it sees. */
export class PagePair {
  readonly looks: LooksAtPage;
  readonly sites: ComparedSites;
  readonly differences: Difference[] = [];
  /** Defects that the old page has as well. */
  readonly before: Difference[] = [];
  /** What differs because the move was asked to change it. */
  readonly expected = new Set<string>();
  private readonly moves = new Map<string, string>();

  constructor(looks: LooksAtPage, sites: ComparedSites) {
    this.looks = looks;
    this.sites = sites;
  }

  /** Notes a difference. @param like what makes it one with the same on other pages */
  add(code: PageCode, where: string, what: string, like = ''): void {
    this.differences.push({ code, path: this.looks.path, where, what, like });
  }

  /** Whether a line became another only by the title or tagline that the sheet gives. */
  isWanted(before: string, after: string): boolean {
    const { title, tagline } = this.sites.expected;
    for (const [wish, named] of [
      [title, 'title'],
      [tagline, 'tagline'],
    ] as const) {
      if (wish === undefined || !isChangeTo(wish, before, after)) continue;
      this.expected.add(named);
      return true;
    }
    return false;
  }

  /** Where a link of a page leads: that of an old page where it should lead now. */
  urlOf({ answer }: Look, target: string): string {
    const url = whole(target, answer.address);
    return answer === this.looks.next.answer ? url : this.moved(url);
  }

  /** Where a URL of the old site should lead now. */
  moved(url: string): string {
    const known = this.moves.get(url);
    if (known !== undefined) return known;
    const moved = whole(this.rewritten(url), url);
    this.moves.set(url, moved);
    return moved;
  }

  /** Whether a URL leads to the old site. */
  isOld(url: string): boolean {
    return leadsToOldSite(url, this.sites.rules, this.sites.oldHosts);
  }

  /** A text of the old site as the move rewrites it. */
  rewritten(text: string): string {
    return rewrittenBy(this.sites.rules)(text);
  }
}

import { applyEdits, bytesOfText, textOf } from '../../bytes.js';
import { editsInValue } from '../../rewrite/carriers/value.js';
import { unnoted } from '../../rewrite/report/observer.js';
import type { Rules } from '../../rewrite/terms/rules.js';
import { hostOf } from './urls.js';

/** Rewrites a text as the move does. */
export function rewrittenBy(rules: Rules): (text: string) => string {
  return text => {
    const bytes = bytesOfText(text);
    return textOf(applyEdits(bytes, editsInValue(bytes, rules, unnoted)));
  };
}

/** Whether a URL leads to the old site: to one of its addresses, or to a host that the new one does not have. */
export function leadsToOldSite(url: string, rules: Rules, oldHosts: readonly string[]): boolean {
  return rewrittenBy(rules)(url) !== url || oldHosts.includes(hostOf(url));
}

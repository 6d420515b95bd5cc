import type { PagePair } from './page-pair.js';
import { hostOf, sameUrl } from './urls.js';
import { cut } from './wording.js';

/** What the new site answers in place of the page. @returns whether there is a page to compare */
export function compareStatus(pair: PagePair): boolean {
  const { answer } = pair.looks.next;
  const { status } = answer;
  const trouble = pair.sites.family.troubleIn(answer.html);
  if (trouble) {
    const code = trouble === 'installation page' ? 'page-installation' : 'page-database-error';
    pair.add(code, answer.address, `shows ${trouble === 'installation page' ? 'an' : 'a'} ${trouble}`);
  } else if (status >= 300 && status < 400) return sentAway(pair);
  else if (status === 503 && pair.sites.expected.maintenance) pair.expected.add('maintenance mode');
  else if (status === 404 || status === 410)
    pair.add('page-missing', `status ${status}`, `answers ${status}`);
  else if (status === 503) pair.add('page-in-maintenance', 'status 503', 'answers 503, maintenance');
  else if (status >= 500) pair.add('page-server-error', `status ${status}`, `answers ${status}`);
  else if (status >= 400) pair.add('page-forbidden', `status ${status}`, `answers ${status}`);
  else return redirected(pair);
  return false;
}

/** A redirect that was not followed, since it leaves the site or goes in a circle. */
function sentAway(pair: PagePair): boolean {
  const { old, next } = pair.looks;
  const to = next.answer.address;
  if (next.answer.isLoop) pair.add('page-redirect-loop', to, `is redirected in a loop, last to ${to}`);
  else if (pair.isOld(to)) pair.add('page-sent-to-old', to, `leads back to ${to}`, hostOf(to));
  else if (old.answer.status < 300 || !sameUrl(pair.moved(old.answer.address), to))
    pair.add('page-sent-away', to, `leads to ${to}`, hostOf(to));
  return false;
}

function redirected(pair: PagePair): boolean {
  const { old, next } = pair.looks;
  if (old.answer.redirects === 0 && next.answer.redirects === 0 && old.answer.status < 300) return true;
  const wanted = pair.moved(old.answer.address);
  const { address } = next.answer;
  if (sameUrl(wanted, address)) return true;
  const home = `${pair.sites.newAddress}/`;
  const isHome = sameUrl(address, home) && !sameUrl(wanted, home);
  if (isHome) pair.add('page-sent-home', address, 'leads to the front page');
  else
    pair.add(
      'page-redirect-differs',
      address,
      `leads to ${cut(address, 100)} instead of ${cut(wanted, 100)}`,
    );
  return false;
}

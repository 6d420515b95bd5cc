import type { PageCode } from './difference.js';
import { Noise, withoutTokens } from './noise.js';
import type { Look, PagePair } from './page-pair.js';
import { isFollowed } from './urls.js';
import { insteadOf, mostChanges } from './wording.js';

/** What search engines and other programs read. */
export function compareNamed(pair: PagePair): void {
  const { old, again, next } = pair.looks;
  const compare = (code: PageCode, where: string, pick: (look: Look) => readonly string[]) => {
    const noise = new Noise(pick(old), pick(again), pair.sites.noise);
    const { missing, extra } = noise.compare(pick(old), pick(next), withoutTokens);
    const [was, is] = [missing[0], extra[0]];
    if (was !== undefined || is !== undefined)
      pair.add(code, `${where}: ${is ?? was}`, insteadOf(where, was, is), where + (was ?? '') + (is ?? ''));
  };
  const url = ({ answer, page }: Look, target: string) => pair.urlOf({ answer, page }, target);
  compare('page-canonical-differs', 'the canonical link', look =>
    look.page.canonical === undefined ? [] : [url(look, look.page.canonical)],
  );
  compare('page-alternates-differ', 'the alternate', look =>
    look.page.alternates.map(({ language, target }) => `${language} ${url(look, target)}`),
  );
  compare('page-feed-differs', 'the feed', look => look.page.feeds.map(target => url(look, target)));
  const { title, tagline } = pair.sites.expected;
  const wished = [title, tagline].filter(wish => wish !== undefined);
  compare('page-social-differs', 'the tag', look =>
    look.page.social.flatMap(({ name, content }) => {
      const value = /^https?:|^\//.test(content) ? url(look, content) : pair.rewritten(content);
      // What the site was asked to be called is in these too.
      return wished.length > 0 && /title|site_name|description/.test(name) ? [] : [`${name} ${value}`];
    }),
  );
}

/** Where links lead, and what the page loads. */
export function compareLoaded(pair: PagePair): void {
  const { old, again, next } = pair.looks;
  const targets = (look: Look, isMenu: boolean) =>
    look.page.links
      .filter(link => link.isMenu === isMenu && isFollowed(link.target))
      .map(({ target }) => pair.urlOf(look, target));
  for (const isMenu of [true, false]) {
    const noise = new Noise(targets(old, isMenu), targets(again, isMenu), pair.sites.noise);
    const { missing, extra } = noise.compare(targets(old, isMenu), targets(next, isMenu), withoutTokens);
    const code = isMenu ? 'page-menu-differs' : 'page-link-differs';
    pairs(pair, code, isMenu ? 'menu link' : 'link', missing, extra);
  }
  const assets = (look: Look) =>
    look.page.assets
      .filter(({ target }) => isFollowed(target))
      .map(({ target, kind }) => `${kind} ${pair.urlOf(look, target)}`);
  const noise = new Noise(assets(old), assets(again), pair.sites.noise);
  const { missing, extra } = noise.compare(assets(old), assets(next), item => withoutTokens(item));
  const held = (item: string) => pair.sites.expected.heldBack(item);
  if (missing.some(held)) pair.expected.add('extensions held back');
  pairs(
    pair,
    'page-asset-differs',
    'asset',
    missing.filter(item => !held(item)),
    extra,
  );
}

function pairs(
  pair: PagePair,
  code: PageCode,
  kind: string,
  missing: readonly string[],
  extra: readonly string[],
): void {
  for (let i = 0; i < Math.min(mostChanges, Math.max(missing.length, extra.length)); i++) {
    const [was, is] = [missing[i], extra[i]];
    // An old address is reported as such.
    if (is !== undefined && pair.isOld(is.replace(/^\w+ /, ''))) continue;
    pair.add(code, `${kind} ${is ?? was}`, insteadOf(`the ${kind}`, was, is), `${was}\0${is}`);
  }
}

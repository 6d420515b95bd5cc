import pMap from 'p-map';
import type { Difference } from '../../../core/pages/compare/difference.js';
import { missingHeaders } from '../../../core/pages/compare/headers.js';
import { oldAddressesIn } from '../../../core/pages/compare/old-addresses.js';
import { headerOf } from '../../../core/pages/read/answer.js';
import { referencesOfCss } from '../../../core/pages/read/css.js';
import { imageFault, isWrongType } from '../../../core/pages/read/media.js';
import type { AssetKind } from '../../../core/pages/read/page.js';
import type { SeenPage, WebSite } from '../../../ends/http/web-site.js';
import type { StepRun } from '../../move/step.js';
import type { BothSites } from '../site/both-sites.js';

/** Something that pages of the new site load, with the first page that names it. */
export interface AssetOnPage {
  /** Below the new site's address. */
  readonly path: string;
  readonly kind: AssetKind;
  /** The element and attribute that name it, or the style sheet. */
  readonly where: string;
  readonly page: string;
  /** The same at the old site, where its page names it. */
  readonly old: string | undefined;
}

/** So many are loaded in all. */
const most = 1_500;
/** A larger file is not loaded whole. */
const largest = 20 * 1024 * 1024;

/**
 * Loads what the new pages load, and what their style sheets load in turn.
 * @returns what is wrong with it: `here` where the old site is well, `before` where it has the same fault
 */
export async function checkAssets(
  run: StepRun,
  sites: BothSites,
  assets: ReadonlyMap<string, AssetOnPage>,
): Promise<{ here: Difference[]; before: Difference[]; looked: number }> {
  const check = new AssetCheck(run, sites);
  let round = [...assets.values()];
  const known = new Set(assets.keys());
  while (round.length > 0) {
    const named = (
      await pMap(round, one => check.look(one), { concurrency: sites.atOnce, signal: run.signal })
    ).flat();
    round = named.filter(({ path }) => known.size < most && !known.has(path) && known.add(path));
  }
  return { here: check.here, before: check.before, looked: known.size };
}

class AssetCheck {
  readonly here: Difference[] = [];
  readonly before: Difference[] = [];
  private readonly run: StepRun;
  private readonly sites: BothSites;
  /** Kinds whose headers were compared with those of the old site. */
  private readonly comparedKinds = new Set<string>();

  constructor(run: StepRun, sites: BothSites) {
    this.run = run;
    this.sites = sites;
  }

  /** @returns what a style sheet names */
  async look(asset: AssetOnPage): Promise<AssetOnPage[]> {
    const found = await this.load(this.sites.new, asset.path);
    const faults = found ? this.faultsOf(asset, found) : [];
    if (!found) faults.push(fault(asset, 'asset-broken', 'does not answer'));
    const old = asset.old;
    if (faults.length > 0 && old !== undefined) {
      const there = await this.load(this.sites.old, old);
      const had = there ? this.faultsOf(asset, there, true).map(({ code }) => code) : ['asset-broken'];
      for (const one of faults) (had.includes(one.code) ? this.before : this.here).push(one);
    } else this.here.push(...faults);
    if (!found || faults.length > 0) return [];
    await this.headers(asset, found);
    return asset.kind === 'style' ? this.namedBy(asset, found) : [];
  }

  private async load(site: WebSite, path: string): Promise<SeenPage | undefined> {
    try {
      return await site.get(path, this.run.signal, { most: largest });
    } catch {
      this.run.signal.throwIfAborted();
      return undefined;
    }
  }

  private faultsOf(asset: AssetOnPage, found: SeenPage, isOld = false): Difference[] {
    const { kind } = asset;
    if (found.status >= 300) return [fault(asset, 'asset-broken', `answers ${found.status}`)];
    if (found.content.length === 0) return [fault(asset, 'asset-empty', 'is empty')];
    const type = headerOf(found, 'content-type');
    if (isWrongType(kind, type)) {
      const isPage = /html/.test(type ?? '');
      return [fault(asset, isPage ? 'asset-broken' : 'asset-type-differs', `is served as ${type}`)];
    }
    const broken =
      found.body === 'cut'
        ? 'it is cut off'
        : (kind === 'image' || kind === 'icon') && found.body === 'whole'
          ? imageFault(found.content)
          : undefined;
    if (broken !== undefined) return [fault(asset, 'image-broken', `cannot be shown: ${broken}`)];
    if (isOld || !['style', 'script', 'data'].includes(kind)) return [];
    const { rules, oldHosts } = this.sites.compared;
    const [left] = oldAddressesIn(found.html, '', rules, oldHosts);
    if (!left) return [];
    const line = found.html.slice(0, left.at).split('\n').length;
    return [
      { ...fault(asset, 'asset-old-address', `holds the old address ${left.text}`), where: `line ${line}` },
    ];
  }

  /** The first two files of a kind tell how a server sends all of them. */
  private async headers(asset: AssetOnPage, found: SeenPage): Promise<void> {
    const key = `${asset.kind} ${this.comparedKinds.has(`${asset.kind} 1`) ? 2 : 1}`;
    if (asset.old === undefined || this.comparedKinds.has(key)) return;
    this.comparedKinds.add(key);
    const old = await this.load(this.sites.old, asset.old);
    if (!old || old.status >= 400) return;
    for (const name of missingHeaders(old, found))
      this.here.push({
        code: 'page-header-missing',
        path: asset.path,
        where: name,
        what: `lacks the header ${name} that the old server sends with it`,
        like: `${asset.kind} ${name}`,
      });
  }

  private async namedBy(sheet: AssetOnPage, found: SeenPage): Promise<AssetOnPage[]> {
    const { old, new: next } = this.sites;
    const before = sheet.old === undefined ? undefined : await this.load(old, sheet.old);
    const named = new Set(
      before && before.status < 300 ? referencesOfCss(before.html).map(({ target }) => target) : [],
    );
    return referencesOfCss(found.html).flatMap(({ target, kind }) => {
      const path = next.pathOf(target, found.address);
      if (path === undefined) return [];
      const there = before && named.has(target) ? old.pathOf(target, before.address) : undefined;
      return [{ path, kind, where: `url() in ${sheet.path}`, page: sheet.page, old: there }];
    });
  }
}

function fault(asset: AssetOnPage, code: Difference['code'], what: string): Difference {
  return { code, path: asset.path, where: `${asset.where} on ${asset.page}`, what, like: asset.path };
}

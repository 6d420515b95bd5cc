import type { PageComparison } from '../../core/pages/compare/compare-pages.js';
import { count, counted } from '../../core/text/numbers.js';
import type { Look, Seen } from '../../core/verdict.js';
import type { CrateManifest } from '../../ends/move-folder/crate.js';
import type { Move } from '../move/open.js';
import type { FilesComparison, LeftOver } from './files.js';
import { type LookedAt, leastShare } from './look/look.js';
import type { TableComparison } from './tables.js';

/** What a check compared. */
export interface Compared {
  readonly files: FilesComparison | undefined;
  readonly tables: readonly TableComparison[];
  readonly leftOver: readonly LeftOver[];
  readonly pages: readonly PageComparison[];
  /** How many files that pages load were looked at. */
  readonly assets: number;
  /** Pages as a browser shows them; undefined where none was asked. */
  readonly looks?: readonly LookedAt[] | undefined;
}

/** What of a comparison was looked at, and what was seen. */
export function seenBy(move: Move, manifest: CrateManifest, result: Compared, exported: boolean): Seen[] {
  const seen: Seen[] = [];
  if (manifest.counts.files > 0) seen.push(filesSeen(move, result));
  if (manifest.tables.length > 0) seen.push(...tablesSeen(move, result, exported));
  if (manifest.counts.files + manifest.tables.length > 0) seen.push(addressesSeen(result));
  seen.push(pagesSeen(result));
  if (result.looks) seen.push(picturesSeen(result.looks));
  return seen;
}

function filesSeen({ newFiles }: Move, { files }: Pick<Compared, 'files'>): Seen {
  const what = 'files';
  if (!files)
    return {
      what,
      look: 'not looked at',
      text: newFiles ? 'they were not compared' : 'the sheet names no new.files',
    };
  const wrong = files.missing.length + files.different.length;
  if (wrong > 0) return { what, look: 'seen bad', text: `${counted(wrong, 'file')} missing or different` };
  return {
    what,
    look: 'seen good',
    text: `${counted(files.equal + files.edited, 'file')} as they are to be`,
  };
}

function tablesSeen({ newLive }: Move, { tables }: Pick<Compared, 'tables'>, exported: boolean): Seen[] {
  const equal = tables.filter(one => one.equal).length;
  const look: Look = tables.length > 0 && equal === tables.length ? 'seen good' : 'seen bad';
  const text = `${count(equal)} of ${counted(tables.length, 'table')} equal`;
  if (newLive || exported) return [{ what: 'tables', look, text }];
  return [
    ...(tables.length > 0 ? [{ what: 'the finished dump', look, text }] : []),
    {
      what: 'tables',
      look: 'not looked at',
      text: 'what was loaded from the finished dump is seen in an export of it (check --export FILE)',
    },
  ];
}

function addressesSeen({ leftOver, files, tables }: Pick<Compared, 'leftOver' | 'files' | 'tables'>): Seen {
  const what = 'old addresses';
  const places = [...(files ? ['files'] : []), ...(tables.length > 0 ? ['rows'] : [])];
  if (places.length === 0) return { what, look: 'not looked at', text: 'nothing was searched' };
  const left = leftOver.filter(({ why }) => why === 'not rewritten').reduce((sum, one) => sum + one.count, 0);
  const where = places.join(' and ');
  if (left > 0) return { what, look: 'seen bad', text: `${count(left)} are left in ${where}` };
  return { what, look: 'seen good', text: `none is left in ${where} that was to be rewritten` };
}

function pagesSeen({ pages, assets }: Pick<Compared, 'pages' | 'assets'>): Seen {
  const what = 'pages';
  if (pages.length === 0) return { what, look: 'not looked at', text: 'none was compared (new.reach)' };
  const of = (verdict: PageComparison['verdict']) => pages.filter(page => page.verdict === verdict).length;
  const [same, missing] = [of('same'), of('old fails too')];
  const parts = [`${count(same)} of ${counted(pages.length, 'page')} the same`];
  if (missing > 0) parts.push(`${count(missing)} missing at the old site too`);
  if (assets > 0) parts.push(`${counted(assets, 'file')} that they load looked at`);
  const look = same + missing === pages.length ? 'seen good' : 'seen bad';
  return { what, look, text: parts.join(', ') };
}

function picturesSeen(looks: readonly LookedAt[]): Seen {
  const what = 'pictures';
  if (looks.length === 0) return { what, look: 'not looked at', text: 'no browser showed them' };
  const same = looks.filter(({ share }) => share <= leastShare).length;
  const text = `${count(same)} of ${counted(looks.length, 'pair')} the same`;
  return { what, look: same === looks.length ? 'seen good' : 'seen bad', text };
}

import { relative } from 'node:path';
import { type Look, worstOf } from '../../core/verdict.js';
import { MoveFolder } from '../../ends/move-folder/move-folder.js';
import type { CheckResult } from '../check.js';
import { readResult } from '../move/step.js';
import type { PackResult } from '../pack.js';
import type { Fleet } from './fleet.js';
import { fleetStatus, type SiteStatus } from './look.js';

/** What the page over all sites says of one. */
export interface ReportedSite extends SiteStatus {
  /** The page of the site, as a path from the page over all. */
  readonly page: string;
  readonly counts: PackResult['counts'] | undefined;
  /** What comparing it with the old site has shown; undefined where it was not compared. */
  readonly looked: Look | undefined;
  readonly pages: { readonly same: number; readonly of: number } | undefined;
  readonly tables: { readonly equal: number; readonly of: number } | undefined;
}

/** Gathers what the moves of a fleet have measured, the worst first. @param folder in which the page over all is to be */
export async function gatherFleet(fleet: Fleet, folder: string): Promise<ReportedSite[]> {
  const sheets = new Map(fleet.sites.map(({ name, sheet }) => [name, sheet]));
  const statuses = await fleetStatus(fleet);
  return Promise.all(
    statuses.map(async (status): Promise<ReportedSite> => {
      const move = new MoveFolder(sheets.get(status.site)!);
      const kept = async <Result>(step: 'pack' | 'check') =>
        (await readResult<Result>(move, step).catch(() => undefined))?.result;
      const [pack, check] = await Promise.all([kept<PackResult>('pack'), kept<CheckResult>('check')]);
      return {
        ...status,
        page: relative(folder, move.at('report.html')),
        counts: pack?.counts,
        looked: check && worstOf(check.seen),
        pages: check && {
          same: check.pages.filter(({ verdict }) => verdict === 'same').length,
          of: check.pages.length,
        },
        tables: check && { equal: check.tables.filter(({ equal }) => equal).length, of: check.tables.length },
      };
    }),
  );
}

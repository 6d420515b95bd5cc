import { type PlaceTally, type Totals, totalsOf } from './tally.js';

/** The result of a rewriting, as it is shown, kept and given as JSON. A dry run gives the same. */
export interface RewriteSummary {
  readonly pairs: readonly { readonly from: string; readonly to: string }[];
  readonly totals: Totals;
  /** Places in which something was changed, left, missed or found damaged. */
  readonly places: readonly PlaceTally[];
  readonly tables: number;
  readonly rows: number;
}

/** Sums a rewriting up; places in which nothing was seen of note are left out. */
export function summarise(
  pairs: RewriteSummary['pairs'],
  places: readonly PlaceTally[],
  tables: Iterable<{ readonly rows: number }>,
): RewriteSummary {
  const counted = [...tables];
  return {
    pairs,
    totals: totalsOf(places),
    places: places.filter(
      place => place.changed + place.left + place.damaged > 0 || Object.keys(place.misses).length > 0,
    ),
    tables: counted.length,
    rows: counted.reduce((sum, { rows }) => sum + rows, 0),
  };
}

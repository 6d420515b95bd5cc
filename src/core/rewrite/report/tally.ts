import type { Form, Miss } from '../match/match.js';
import type { LeftWhy } from '../terms/scope.js';

/** A place that was looked at closely, cut around the match and safe to show. */
export interface Sample {
  readonly before: string;
  readonly after: string;
  /** The match in `before`, and what became of it in `after`. */
  readonly found: Mark;
  readonly put: Mark;
}

/** A part of a sample: where it begins, in characters, and its text. */
interface Mark {
  readonly at: number;
  readonly text: string;
}

/** What was seen and done in one column of one table, or in one file. */
export interface PlaceTally {
  readonly table: string;
  readonly column: string;
  /** String values looked at. */
  seen: number;
  changed: number;
  /** Occurrences rewritten, by the index of the pair. */
  readonly pairs: Record<number, number>;
  readonly forms: Partial<Record<Form, number>>;
  /** What looked like an old address and was not rewritten, by reason. */
  readonly misses: Partial<Record<Miss, number>>;
  /** Old addresses in values that are left, and why. */
  left: number;
  leftWhy: LeftWhy | 'outside of rows' | undefined;
  /** Values that look serialized and cannot be read, and the old addresses left in them. */
  damaged: number;
  /** Damaged values whose lengths were corrected. */
  mended: number;
  readonly samples: Sample[];
  readonly missSamples: Partial<Record<Miss | 'damaged' | 'left', string>>;
}

const samplesKept = 3;

/** The counts of a whole run, by table and column. */
export class Tally {
  private readonly places = new Map<string, PlaceTally>();

  /** The counts of one place, made at first use. */
  at(table: string, column: string): PlaceTally {
    const key = `${table}\0${column}`;
    let place = this.places.get(key);
    if (!place) {
      place = {
        table,
        column,
        seen: 0,
        changed: 0,
        pairs: {},
        forms: {},
        misses: {},
        left: 0,
        leftWhy: undefined,
        damaged: 0,
        mended: 0,
        samples: [],
        missSamples: {},
      };
      this.places.set(key, place);
    }
    return place;
  }

  /** Every place at which something was seen, in the order of the data. */
  all(): PlaceTally[] {
    return [...this.places.values()].filter(({ seen, left }) => seen > 0 || left > 0);
  }
}

/** Whether a place has not yet as many samples as are kept of it. */
export function wantsSample(place: PlaceTally): boolean {
  return place.samples.length < samplesKept;
}

/** Sums over all places. */
export interface Totals {
  seen: number;
  changed: number;
  occurrences: number;
  forms: Partial<Record<Form, number>>;
  pairs: Record<number, number>;
  misses: Partial<Record<Miss, number>>;
  left: number;
  damaged: number;
  mended: number;
}

/** Adds up the counts of all places. */
export function totalsOf(places: readonly PlaceTally[]): Totals {
  const total: Totals = {
    seen: 0,
    changed: 0,
    occurrences: 0,
    forms: {},
    pairs: {},
    misses: {},
    left: 0,
    damaged: 0,
    mended: 0,
  };
  const addUp = <K extends string | number>(
    into: Partial<Record<K, number>>,
    from: Partial<Record<K, number>>,
  ) => {
    for (const key of Object.keys(from) as K[]) into[key] = (into[key] ?? 0) + from[key]!;
  };
  for (const place of places) {
    total.seen += place.seen;
    total.changed += place.changed;
    total.left += place.left;
    total.damaged += place.damaged;
    total.mended += place.mended;
    addUp(total.forms, place.forms);
    addUp(total.pairs, place.pairs);
    addUp(total.misses, place.misses);
  }
  total.occurrences = Object.values(total.forms).reduce((sum, n) => sum + n, 0);
  return total;
}

/** What a place is called: a column of a table, or a file. */
export function placeName({ table, column }: PlaceTally): string {
  return table === 'files' ? column : `${table}.${column}`;
}

import type { Miss } from '../match/match.js';
import type { PlaceTally } from './tally.js';

/** One old address (or damaged value) that was left. */
export interface Left {
  readonly where: string;
  /** Which row, as far as that is known: its number and its first value. */
  readonly row: string;
  readonly why: string;
  readonly sample: string;
}

/** Every place at which something was left, one by one, up to a number. */
export class LeftList {
  readonly list: Left[] = [];
  /** How many are not in the list. */
  more = 0;
  /** Reports the row that is being read. */
  row: () => string = () => '';
  private readonly most: number;

  constructor(most: number) {
    this.most = most;
  }

  note({ table, column }: PlaceTally, why: string, sample: string): void {
    if (this.list.length === this.most) this.more++;
    else this.list.push({ where: `${table}.${column}`, row: this.row(), why, sample });
  }
}

/** What was left at a place: why, how often, and a sample. */
export function leftAt(place: PlaceTally): { why: string; times: number; sample: string }[] {
  const { left, leftWhy, damaged, misses, missSamples } = place;
  const counts: [why: string, times: number, sample: string | undefined][] = [
    [leftWhy ?? 'left on purpose', left, missSamples.left],
    ['damaged value', damaged, missSamples.damaged],
    ...Object.entries(misses).map(([miss, n]): [string, number, string | undefined] => [
      miss,
      n,
      missSamples[miss as Miss],
    ]),
  ];
  return counts
    .filter(([, times]) => times > 0)
    .map(([why, times, sample]) => ({ why, times, sample: sample ?? '' }));
}

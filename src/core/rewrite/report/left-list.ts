import type { PlaceTally } from './tally.js';

/** One old address (or damaged value) that was left. */
export interface Left {
  readonly where: string;
  /** Which row, as far as it can be told: its number and its first value. */
  readonly row: string;
  readonly why: string;
  readonly sample: string;
}

/** Every place at which something was left, one by one, up to a number. */
export class LeftList {
  readonly list: Left[] = [];
  /** How many are not in the list. */
  more = 0;
  /** Tells the row that is being read. */
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

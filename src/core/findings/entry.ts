/** How grave a finding is. `stop`: the move must not continue. `warn`: look at it first. `note`: good to know. */
export type Level = 'stop' | 'warn' | 'note';

/** What the catalogue says of one kind of finding. */
export interface CatalogueEntry {
  /** The levels that it can have, the gravest first. */
  readonly levels: readonly [Level, ...Level[]];
  readonly meaning: string;
  readonly remedy: string;
}

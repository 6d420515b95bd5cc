/** How a family writes the table prefix into its data. */
export interface PrefixedData {
  /** A table's name without its prefix. */
  readonly table: string;
  readonly column: string;
  /** Whether a value that begins with the prefix carries it; it is given the value without the prefix. */
  carries(rest: string): boolean;
}

/** A change of table prefix. */
export interface PrefixChange {
  readonly from: string;
  readonly to: string;
  readonly data: readonly PrefixedData[];
}

/** The new name of a table, or undefined where it does not carry the old prefix. */
export function renamed(name: string, change: PrefixChange | undefined): string | undefined {
  if (!change || change.from === change.to || !name.startsWith(change.from)) return undefined;
  return change.to + name.slice(change.from.length);
}

/** How values of a column carry the prefix, or undefined where they do not. */
export function prefixedColumn(
  table: string,
  column: string,
  change: PrefixChange | undefined,
): PrefixedData | undefined {
  if (!change || change.from === change.to || !table.startsWith(change.from)) return undefined;
  const rest = table.slice(change.from.length).replace(/^\d+_/, '');
  return change.data.find(one => one.table === rest && one.column === column);
}

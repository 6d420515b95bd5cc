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
  const rest = table.slice(change.from.length);
  const found = change.data.find(
    one => one.column === column && (rest === one.table || rest.endsWith(`_${one.table}`)),
  );
  // Of a site of a network (`2_options`), or of another site whose prefix begins with this one (`old_options`).
  const between = found && rest.slice(0, rest.length - found.table.length);
  if (!found || between === '') return found;
  const own = (value: string) => value.startsWith(between!) && found.carries(value.slice(between!.length));
  return { ...found, carries: value => own(value) || found.carries(value) };
}

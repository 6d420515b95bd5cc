/** A list of `table.column` patterns in which `*` means any characters. */
export interface Globs {
  matches(name: string): boolean;
}

/** Compiles patterns; a pattern without a full stop is a table's and means all its columns. */
export function compileGlobs(patterns: readonly string[]): Globs {
  const compiled = patterns.map(pattern => globPattern(pattern.includes('.') ? pattern : `${pattern}.*`));
  return { matches: name => compiled.some(one => one.test(name)) };
}

/** A glob as an anchored pattern: `*` is any run of characters, `?` any one. */
export function globPattern(glob: string): RegExp {
  const body = glob
    .replace(/[.+^${}()|[\]\\]/g, '\\$&')
    .replaceAll('*', '.*')
    .replaceAll('?', '.');
  return new RegExp(`^${body}$`, 's');
}

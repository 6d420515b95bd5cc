import { compileGlobs } from './globs.js';

/** Why a column is left as it is. */
export type LeftWhy = 'left on purpose' | 'not named by --only';

/** Which columns are rewritten. */
export interface Scope {
  /** Why a column (`table.column`) is left, or undefined where it is rewritten. */
  leaves(name: string): LeftWhy | undefined;
}

/**
 * Compiles which columns to leave. What `only` names is rewritten although a family leaves it.
 * @param leave patterns of columns to leave, as the person says
 * @param familyLeave the same, as families say
 * @param only patterns of the only columns to rewrite; none for all
 */
export function compileScope(
  leave: readonly string[],
  familyLeave: readonly string[] = [],
  only: readonly string[] = [],
): Scope {
  const [left, byFamily, named] = [leave, familyLeave, only].map(compileGlobs);
  return {
    leaves(name) {
      if (left!.matches(name)) return 'left on purpose';
      if (only.length > 0) return named!.matches(name) ? undefined : 'not named by --only';
      return byFamily!.matches(name) ? 'left on purpose' : undefined;
    },
  };
}

import type { Pair } from '../../address/pairs.js';
import type { Workbench } from '../../kernels/workbench.js';
import { allColumns, columnsOf } from '../../site/data/family-columns.js';
import { compileGlobs, type Globs } from '../terms/globs.js';
import { compileRules, type RuleOptions } from '../terms/rules.js';
import { compileScope, type Scope } from '../terms/scope.js';
import type { DumpRewriting } from './dump.js';

/** What a rewriting of a dump is to do, as plain data that can be handed to another thread. */
export interface DumpTerms {
  readonly pairs: readonly Pair[];
  readonly options: RuleOptions;
  readonly prefix: { readonly from: string; readonly to: string } | undefined;
  /** The family whose tables they are; undefined where it is not known, and any of them may be. */
  readonly family: string | undefined;
  /** Patterns of columns to leave, and of the only ones to rewrite (none for all). */
  readonly leave: readonly string[];
  readonly only: readonly string[];
  /** Whether a table or view is in the result, by its name as bytes; left out, all are. */
  readonly takes?: (table: string) => boolean;
}

/** The same prepared for the byte path. */
export interface CompiledTerms extends DumpRewriting {
  readonly scope: Scope;
  /** Columns that hold a bare host. */
  readonly hosts: Globs;
}

export function compileDumpTerms(bench: Workbench, terms: DumpTerms): CompiledTerms {
  const { pairs, options, prefix, family, leave, only } = terms;
  const columns = family === undefined ? allColumns : [columnsOf(family)];
  return {
    rules: compileRules(bench, pairs, options),
    scope: compileScope(
      leave,
      columns.flatMap(one => one.leave),
      only,
    ),
    hosts: compileGlobs(columns.flatMap(one => one.hosts)),
    compressed: compileGlobs(columns.flatMap(one => one.compressed)),
    prefix: prefix && { ...prefix, data: columns.flatMap(one => one.prefixed) },
    takes: terms.takes,
  };
}

import ignore from 'ignore';
import { textOf } from '../bytes.js';
import type { FileEntry } from './entries.js';

/**
 * Whether an entry is left out by gitignore patterns (https://git-scm.com/docs/gitignore). A folder that is left
 * out takes along what is in it.
 */
export function leftOut(patterns: readonly string[]): (entry: Pick<FileEntry, 'path' | 'type'>) => boolean {
  const rules = ignore().add([...patterns]);
  return ({ path, type }) => rules.ignores(textOf(path) + (type === 'folder' ? '/' : ''));
}

/** gitignore patterns of what a move itself puts at the old site; none of it is taken. */
const ownPatterns = ['/.able-porter.*', '/able-porter-redirects/'];

/**
 * What is not taken of an old site: as the sheet wishes, and what this program has put there.
 * @param page a file of its root that shows a maintenance page of ours
 */
export function notTaken(
  take: false | { readonly without: readonly string[] },
  page?: string,
): ReturnType<typeof leftOut> {
  const own = page === undefined ? ownPatterns : [...ownPatterns, `/${page}`];
  return leftOut(take === false ? ['*'] : [...take.without, ...own]);
}

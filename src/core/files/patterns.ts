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

import { UsageError } from '../../errors.js';
import { encodedPath } from '../encoded.js';
import { parseExpression, textFor } from './group-expression.js';
import type { RedirectRule } from './redirect-rule.js';
import { anything, type PatternPart, segment } from './url-pattern.js';

/**
 * Paths that a rule matches, to see what becomes of them. The same rules give the same paths.
 * @param words what a segment may be besides
 */
export function samplePaths({ parts }: RedirectRule, words: readonly string[], count: number): string[] {
  let state = 1;
  const next = (below: number) => {
    state = (Math.imul(state, 1_664_525) + 1_013_904_223) >>> 0;
    return Math.floor((state / 2 ** 32) * below);
  };
  const paths = Array.from({ length: count }, () => parts.map(part => sample(part, words, next)).join(''));
  return [...new Set(paths)];
}

function sample(
  { before, group, after, repeat }: PatternPart,
  words: readonly string[],
  next: (below: number) => number,
): string {
  const times = repeat === '' ? 1 : repeat === '?' ? next(2) : repeat === '*' ? next(3) : 1 + next(2);
  const once = () =>
    encodedPath(before) + (group ? textOf(group.expression, words, next) : '') + encodedPath(after);
  return Array.from({ length: times }, once).join('');
}

function textOf(expression: string, words: readonly string[], next: (below: number) => number): string {
  const word = () => words[next(words.length)]!;
  if (expression === segment) return word();
  if (expression === anything) return Array.from({ length: next(4) }, word).join('/');
  return textFor(
    parseExpression(expression, cause => new UsageError({ doing: 'Reading a rule', cause, remedy: '' })),
    next,
  );
}

import { byteByByte, type RawBytes, textPattern } from '../path-pattern.js';
import type { RedirectRule } from './redirect-rule.js';
import { anything, type PatternPart } from './url-pattern.js';

/**
 * A rule as a regular expression over the path as it is sent, without anchors, that JavaScript, PCRE and RE2 read alike ("generate a
 * regular expression" of the URL Pattern standard). Each group of the rule captures, in its
 * order. A closing slash may be there or not.
 * @param opened how a group that captures is opened, by its number from 0 on
 */
export function expressionOf(
  { parts }: Pick<RedirectRule, 'parts'>,
  raw: RawBytes = byteByByte,
  opened: (number: number) => string = () => '(',
): string {
  let groups = 0;
  const all = withoutClosingSlash(parts).map(part =>
    partExpression(part, raw, part.group ? opened(groups++) : ''),
  );
  return all.join('') + closing(parts);
}

/** Whether the closing slash is part of what a last group matches. */
function endsOpen(parts: readonly PatternPart[]): boolean {
  const last = parts.at(-1);
  return last?.group !== undefined && last.after === '' && last.group.expression === anything;
}

function closing(parts: readonly PatternPart[]): string {
  return endsOpen(parts) ? '' : '/?';
}

function withoutClosingSlash(parts: readonly PatternPart[]): readonly PatternPart[] {
  const last = parts.at(-1);
  if (!last || last.group || last.repeat !== '' || !last.before.endsWith('/')) return parts;
  return [...parts.slice(0, -1), { ...last, before: last.before.slice(0, -1) }];
}

function partExpression(
  { before, group, after, repeat }: PatternPart,
  raw: RawBytes,
  opened: string,
): string {
  const head = textPattern(before, raw);
  if (!group) return repeat === '' ? head : `(?:${head})${repeat}`;
  const tail = textPattern(after, raw);
  const { expression } = group;
  const repeats = repeat === '*' || repeat === '+';
  if (before === '' && after === '')
    return repeats ? `${opened}(?:${expression})${repeat})` : `${opened}${expression})${repeat}`;
  if (!repeats) return `(?:${head}${opened}${expression})${tail})${repeat}`;
  const again = `(?:${expression})(?:${tail}${head}(?:${expression}))*`;
  return `(?:${head}${opened}${again})${tail})${asOne(repeat)}`;
}

function asOne(repeat: '*' | '+'): string {
  return repeat === '*' ? '?' : '';
}

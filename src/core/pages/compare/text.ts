import { diffArrays } from 'diff';
import type { Noise } from './noise.js';

/** A place at which the text of two pages differs. */
export interface TextChange {
  readonly before: readonly string[];
  readonly after: readonly string[];
}

/** What is beyond so many differing lines is not looked for: the pages have little in common. */
const mostEdits = 1_000;

/**
 * Where the lines of two texts differ, apart from noise.
 * @returns undefined where they have too little in common to say where
 */
export function textChanges(
  expected: readonly string[],
  found: readonly string[],
  noise: Noise,
): TextChange[] | undefined {
  if (noise.isUnordered) {
    const { missing, extra } = noise.compare(expected, found);
    return missing.length + extra.length === 0 ? [] : [{ before: missing, after: extra }];
  }
  const [left, right] = [expected, found].map(lines => lines.map(line => noise.masked(line)));
  const parts = diffArrays(left!, right!, { maxEditLength: mostEdits });
  if (!parts) return undefined;
  const changes: { before: string[]; after: string[] }[] = [];
  let [at, to] = [0, 0];
  let open: (typeof changes)[0] | undefined;
  for (const { added, removed, count } of parts) {
    if (!added && !removed) open = undefined;
    else if (!open) {
      open = { before: [], after: [] };
      changes.push(open);
    }
    if (removed) open!.before.push(...expected.slice(at, at + count));
    if (added) open!.after.push(...found.slice(to, to + count));
    if (!added) at += count;
    if (!removed) to += count;
  }
  // What is anything in one look may be anything in another.
  let allowed = noise.allowance;
  return changes.filter(({ before, after }) => {
    if (noise.explains(before, after)) return false;
    const size = Math.max(before.length, after.length);
    if (size > allowed) return true;
    allowed -= size;
    return false;
  });
}

/**
 * Whether a line became another only by a word that was to be changed, as the title of the site.
 * @param wanted what it was to become
 */
export function isChangeTo(wanted: string, before: string, after: string): boolean {
  if (wanted === '' || !after.includes(wanted)) return false;
  const parts = after.split(wanted);
  let rest = before;
  let old: string | undefined;
  for (const [i, part] of parts.entries()) {
    if (!rest.startsWith(part)) return false;
    rest = rest.slice(part.length);
    if (i === parts.length - 1) return rest === '';
    const next = parts[i + 1]!;
    const isLast = i === parts.length - 2;
    const end = old !== undefined ? old.length : isLast ? rest.length - next.length : rest.indexOf(next, 1);
    if (end < 0) return false;
    const piece = rest.slice(0, end);
    if (old !== undefined && piece !== old) return false;
    old = piece;
    rest = rest.slice(end);
  }
  return false;
}

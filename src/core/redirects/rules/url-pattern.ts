import { UsageError } from '../../errors.js';
import { parseExpression, repeatsWithoutEnd } from './group-expression.js';

/**
 * A part of a path pattern in the syntax of the URL Pattern standard (https://urlpattern.spec.whatwg.org, "parse a pattern
 * string"): a text, or a group that matches something.
 */
export interface PatternPart {
  /** Of a text, the text itself; of a group, what is repeated with it. */
  readonly before: string;
  readonly group: PatternGroup | undefined;
  readonly after: string;
  readonly repeat: '' | '?' | '*' | '+';
}

interface PatternGroup {
  readonly name: string;
  /** A group of a regular expression that captures nothing. */
  readonly expression: string;
}

type Token =
  | { readonly kind: 'open' | 'close' | 'any' }
  | { readonly kind: 'name' | 'expression' | 'char' | 'modifier'; readonly text: string };

/** What `:name` and `*` match in a path. */
export const segment = '[^/]+?';
export const anything = '.*';

/**
 * Reads a path pattern.
 * @param text such as `/:year(\\d{4})/:slug/`
 * @throws UsageError for one that is none, or whose expressions not every web server understands
 */
export function parsePathPattern(text: string): PatternPart[] {
  const wrong = (cause: string) =>
    new UsageError({
      doing: `Reading the redirect rule "${text}"`,
      cause,
      remedy: 'Write a path pattern of the URL Pattern standard, such as /:year(\\d{4})/:slug/',
    });
  const tokens = tokensOf(text, wrong);
  const parts: PatternPart[] = [];
  const names = new Set<string>();
  let at = 0;
  let unnamed = 0;
  let pending = '';
  const flush = () => {
    if (pending !== '') parts.push({ before: pending, group: undefined, after: '', repeat: '' });
    pending = '';
  };
  while (at < tokens.length) {
    const char = take('char');
    const group = takeGroup();
    if (group) {
      // A slash right before a group belongs to it.
      const isPrefix = char === '/';
      if (char !== undefined && !isPrefix) pending += char;
      flush();
      parts.push({ before: isPrefix ? char : '', group, after: '', repeat: takeRepeat(group) });
      continue;
    }
    if (char !== undefined) {
      pending += char;
      continue;
    }
    if (tokens[at]?.kind !== 'open') throw wrong(`"${shown(tokens[at]!)}" is not expected there`);
    at++;
    const before = takeText();
    const inside = takeGroup();
    const after = takeText();
    if (tokens[at]?.kind !== 'close') throw wrong('a brace is not closed, or holds more than one group');
    at++;
    const repeat = takeRepeat(inside);
    if (!inside && repeat === '') {
      pending += before;
      continue;
    }
    flush();
    if (!inside && before === '') continue;
    parts.push({ before, group: inside, after, repeat });
  }
  flush();
  return parts;

  /** How often a group may occur. */
  function takeRepeat(group: PatternGroup | undefined): PatternPart['repeat'] {
    const repeat = (take('modifier') ?? '') as PatternPart['repeat'];
    const isOwn = group !== undefined && group.expression !== segment && group.expression !== anything;
    if (
      isOwn &&
      (repeat === '*' || repeat === '+') &&
      repeatsWithoutEnd(parseExpression(group.expression, wrong))
    )
      throw wrong(`the group :${group.name} repeats what repeats itself`);
    return repeat;
  }

  function take(kind: 'char' | 'name' | 'expression' | 'modifier'): string | undefined {
    const token = tokens[at];
    if (token?.kind !== kind) return undefined;
    at++;
    return token.text;
  }

  function takeText(): string {
    let all = '';
    for (let char = take('char'); char !== undefined; char = take('char')) all += char;
    return all;
  }

  function takeGroup(): PatternGroup | undefined {
    const name = take('name');
    const expression = take('expression');
    const isAny = name === undefined && expression === undefined && tokens[at]?.kind === 'any';
    if (name === undefined && expression === undefined && !isAny) return undefined;
    if (isAny) at++;
    const known = name ?? String(unnamed++);
    if (names.has(known)) throw wrong(`the group :${known} occurs twice`);
    names.add(known);
    return { name: known, expression: expression ?? (isAny ? anything : segment) };
  }
}

function shown(token: Token): string {
  return 'text' in token ? token.text : { open: '{', close: '}', any: '*' }[token.kind];
}

/** "Tokenize", by the strict policy. Expressions are checked as they are read. */
function tokensOf(text: string, wrong: (cause: string) => UsageError): Token[] {
  const tokens: Token[] = [];
  for (let i = 0; i < text.length; ) {
    const char = text[i]!;
    const name = /^:([$_\p{ID_Start}][$\p{ID_Continue}]*)/u.exec(text.slice(i));
    if (char === '\\') {
      if (i + 1 === text.length) throw wrong('nothing follows its last backslash');
      tokens.push({ kind: 'char', text: text[i + 1]! });
      i += 2;
    } else if (char === '{' || char === '}') {
      tokens.push({ kind: char === '{' ? 'open' : 'close' });
      i++;
    } else if (char === '*' || char === '+' || char === '?') {
      // A star after a group repeats it; anywhere else it is a group.
      const last = tokens.at(-1)?.kind;
      const repeats = last === 'name' || last === 'expression' || last === 'close' || last === 'any';
      if (char !== '*' && !repeats)
        throw wrong(
          char === '?'
            ? 'a rule compares paths, and a question mark begins a query; a page with a query is a line of redirects.csv'
            : `"${char}" repeats nothing there; write \\${char} for the character itself`,
        );
      tokens.push(repeats ? { kind: 'modifier', text: char } : { kind: 'any' });
      i++;
    } else if (char === ':' && name) {
      tokens.push({ kind: 'name', text: name[1]! });
      i += name[0].length;
    } else if (char === ':') {
      throw wrong('a colon is followed by no name; write \\: for the character itself');
    } else if (char === '(') {
      const end = endOfGroup(text, i);
      if (end === undefined) throw wrong('a bracket is not closed');
      const expression = text.slice(i + 1, end);
      parseExpression(expression, wrong);
      tokens.push({ kind: 'expression', text: expression });
      i = end + 1;
    } else {
      const point = String.fromCodePoint(text.codePointAt(i)!);
      tokens.push({ kind: 'char', text: point });
      i += point.length;
    }
  }
  return tokens;
}

/** Where the bracket ends that begins at a place. */
function endOfGroup(text: string, start: number): number | undefined {
  let depth = 0;
  for (let i = start; i < text.length; i++) {
    if (text[i] === '\\') i++;
    else if (text[i] === '(') depth++;
    else if (text[i] === ')' && --depth === 0) return i;
  }
  return undefined;
}

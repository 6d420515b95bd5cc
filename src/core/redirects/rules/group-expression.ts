import type { UsageError } from '../../errors.js';

/** The expression of a group, read: alternatives, each a row of things that occur some times. */
export type Expression = readonly (readonly Repeated[])[];

interface Repeated {
  /** The source of what matches one character, or an expression in brackets. */
  readonly what: string | Expression;
  readonly least: number;
  /** Infinity for a repetition without end. */
  readonly most: number;
}

const punctuation = String.raw`[-.\\/+*?()[\]{}|^$]`;
/** A character, a class of characters, or a dot. */
const one = new RegExp(
  String.raw`^(?:[\w%~,:;=@!&' -]|\.|\\[dDwW]|\\${punctuation}|\[\^?(?:[\w%~.,+:;=@!/]|\\[dDwW]|\\${punctuation}|[A-Za-z0-9]-[A-Za-z0-9])+\])`,
);
const times = /^(?:([*+?])|\{(\d{1,3})(?:(,)(\d{0,3}))?\})\??/;

/**
 * Reads the expression of a group, as JavaScript, PCRE and RE2 understand it alike. What only some of them know is refused, and what
 * takes some of them very long: a repetition within a repetition.
 * @param text what is between the brackets
 * @throws what `wrong` makes, with the cause
 */
export function parseExpression(text: string, wrong: (cause: string) => UsageError): Expression {
  let rest = text;
  if (text === '') throw wrong('the expression in its brackets is empty');
  const all = alternatives();
  if (rest !== '') throw wrong(notUnderstood());
  return all;

  function alternatives(): Expression {
    const found = [row()];
    while (take('|')) found.push(row());
    return found;
  }

  function row(): Repeated[] {
    const found: Repeated[] = [];
    for (;;) {
      const single = one.exec(rest);
      if (single) {
        rest = rest.slice(single[0].length);
        found.push(repeated(single[0]));
      } else if (take('(?:')) {
        const inside = alternatives();
        if (!take(')'))
          throw wrong(rest === '' ? 'a bracket in its expression is not closed' : notUnderstood());
        found.push(repeated(inside));
      } else return found;
    }
  }

  function repeated(what: Repeated['what']): Repeated {
    const count = times.exec(rest);
    if (!count) return { what, least: 1, most: 1 };
    rest = rest.slice(count[0].length);
    const [, sign, from, comma, to] = count;
    const least = sign === undefined ? Number(from) : sign === '+' ? 1 : 0;
    const most =
      sign === '?' ? 1 : sign !== undefined || (comma && !to) ? Number.POSITIVE_INFINITY : Number(to || from);
    if (most === Number.POSITIVE_INFINITY && typeof what !== 'string' && repeatsWithoutEnd(what))
      throw wrong('its expression repeats what repeats itself');
    return { what, least, most };
  }

  function take(word: string): boolean {
    if (!rest.startsWith(word)) return false;
    rest = rest.slice(word.length);
    return true;
  }

  function notUnderstood(): string {
    return `not every web server understands "${rest.slice(0, 12)}" in its expression`;
  }
}

/** Whether an expression matches texts of any length. */
export function repeatsWithoutEnd(expression: Expression): boolean {
  return expression
    .flat()
    .some(
      ({ what, most }) =>
        most === Number.POSITIVE_INFINITY || (typeof what !== 'string' && repeatsWithoutEnd(what)),
    );
}

const candidates = [...'1a0-7Zk_2x9.~%'];

/** A text that an expression matches. @param next gives numbers below a limit */
export function textFor(expression: Expression, next: (below: number) => number): string {
  const row = expression[next(expression.length)]!;
  return row
    .map(({ what, least, most }) => {
      const count = least + next(Math.min(most - least, 3) + 1);
      const once = () => (typeof what === 'string' ? characterFor(what, next) : textFor(what, next));
      return Array.from({ length: count }, once).join('');
    })
    .join('');
}

function characterFor(source: string, next: (below: number) => number): string {
  const expression = new RegExp(`^${source}$`);
  const plain = /^[^\\[.]$/.test(source) ? [source] : /^\\[^dDwW]$/.test(source) ? [source[1]!] : candidates;
  const fits = plain.filter(char => expression.test(char));
  return fits[next(fits.length || 1)] ?? '';
}

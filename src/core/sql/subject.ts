import { type Token, tokensOf } from './lexer.js';

/** What a statement makes, changes or removes. */
export interface Subject {
  readonly verb: string;
  readonly kind: 'table' | 'view' | 'trigger' | 'procedure' | 'function' | 'event';
  /** The names of what it is about, as bytes; of a trigger its own. */
  readonly names: readonly string[];
}

const kinds = new Set(['table', 'view', 'trigger', 'procedure', 'function', 'event']);
const plain = new Set(['truncate', 'lock']);
/** What may be between a verb and the kind of what it is about. */
const before =
  /^(?:or|replace|temporary|algorithm|definer|sql|security|aggregate|undefined|merge|temptable|invoker)$/i;
/** What may be before a name. */
const asides = /^(?:if|not|exists|only|into|ignore|low_priority|high_priority|delayed|quick|from)$/i;

/**
 * What a statement is about: the tables that it names, or the view or program. Undefined where it is about none, such as
 * a SET.
 */
export function subjectOf(statement: string): Subject | undefined {
  const tokens: Token[] = [];
  // No head is longer; a list of names may be.
  for (const token of tokensOf(statement)) if (tokens.push(token) >= 4000) break;
  const verb = tokens[0]?.kind === 'word' ? tokens[0].text.toLowerCase() : '';
  if (/^(?:insert|replace|update|delete)$/.test(verb)) return aboutTables(verb, tokens, 1);
  if (/^(?:create|drop|alter)$/.test(verb)) {
    const at = kindAt(tokens);
    if (at < 0) return undefined;
    const kind = tokens[at]!.text.toLowerCase().replace(/^tables$/, 'table') as Subject['kind'];
    if (kind === 'table' || kind === 'view') return { ...aboutTables(verb, tokens, at + 1), kind };
    const { names } = aboutTables(verb, tokens, at + 1);
    return { verb, kind, names: names.slice(0, 1) };
  }
  if (!plain.has(verb)) return undefined;
  const at = tokens.findIndex(({ kind, text }) => kind === 'word' && /^tables?$/i.test(text));
  return aboutTables(verb, tokens, at < 0 ? 1 : at + 1);
}

/** Where a statement says what kind of thing it is about; negative where it is about another. */
function kindAt(tokens: readonly Token[]): number {
  for (let at = 1; at < tokens.length; at++) {
    const { kind, text } = tokens[at]!;
    if (kind !== 'word') continue;
    if (kinds.has(text.toLowerCase()) || /^tables$/i.test(text)) return at;
    // A definer's name and host may be any word.
    const isOfDefiner = tokens[at - 1]?.text === '=' || tokens[at - 1]?.text === '@';
    if (!before.test(text) && !isOfDefiner) return -1;
  }
  return -1;
}

/** The names in a list, each perhaps with an alias, a lock or more after it. */
function aboutTables(verb: string, tokens: readonly Token[], from: number): Subject {
  const names: string[] = [];
  for (let at = from; at < tokens.length; ) {
    while (tokens[at]?.kind === 'word' && asides.test(tokens[at]!.text)) at++;
    const token = tokens[at];
    if (token === undefined || token.kind === 'mark') break;
    let name = token.text;
    at++;
    while (tokens[at]?.text === '.' && tokens[at]?.kind === 'mark') {
      name = tokens[at + 1]?.text ?? '';
      at += 2;
    }
    names.push(name);
    // Only these have lists.
    if (verb !== 'drop' && verb !== 'lock') break;
    while (at < tokens.length && tokens[at]!.text !== ',') at++;
    at++;
  }
  return { verb, kind: 'table', names };
}

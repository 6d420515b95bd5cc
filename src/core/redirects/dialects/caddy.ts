import { casesOf, patternOf, type RedirectCase } from '../cases.js';
import { asCharacter, oneOfThese } from '../path-pattern.js';
import type { RedirectSet } from '../redirect-set.js';
import { expressionOf } from '../rules/expression.js';
import { fillTarget } from '../rules/redirect-rule.js';
import { hasBadEncoding, type RedirectDialect } from './dialect.js';
import { answerOf, entriesOf, headOf, kindsOf, statusOf } from './entries.js';

/**
 * https://caddyserver.com/docs/caddyfile/directives/redir, map and vars. The path is taken from the request as it was sent, before
 * Caddy decodes it, so that encoded bytes stay as they are.
 */
export const caddy = {
  name: 'caddy',
  title: 'Caddy',
  serverHeader: /caddy/i,
  folder: 'caddy',
  refuses: page => (hasBadEncoding(page, true) ? 'Caddy answers 400 to an encoding that is none' : undefined),
  where: from =>
    `Put redirects.caddy into the site block of ${from.host}, with every name of the site in its head, and reload Caddy.`,
  files: set => [{ path: 'redirects.caddy', text: rules(set) }],
} as const satisfies RedirectDialect;

function rules(set: RedirectSet): string {
  const cases = casesOf(set, asCharacter);
  const head = headOf(set, '#');
  const plain = cases.map((one, i) => samePath(set, one, i)).join('');
  if (set.singles.length === 0 && set.rules.length === 0) return head + plain;
  const parts = [placePart(set, cases), foundPart(set), answerPart(set)].join('');
  return `${head}route {\n${indented(parts + plain)}}\n`;
}

const uri = '{http.request.orig_uri}';

/** Which page is asked for: its path below the address, the same without a closing slash, and its query. */
function placePart(set: RedirectSet, cases: readonly RedirectCase[]): string {
  // What comes later wins here.
  const blocks = cases.map((one, i) => {
    const name = `moved_place${i + 1}`;
    const pattern = `^${one.base}(?:/([^?]*?)(/?))?(?:(\\?.+)|\\?)?$`;
    const lines = [...conditions(one, set), regexp(set, pattern, uri, name)];
    const place = {
      moved_path: `/{re.${name}.1}{re.${name}.2}`,
      moved_key: `/{re.${name}.1}`,
      moved_query: `{re.${name}.3}`,
    };
    return matcher(name, lines) + assign(name, place);
  });
  return blocks.reverse().join('');
}

/** Rules in turned order, then single redirects: what comes later wins. */
function foundPart(set: RedirectSet): string {
  const rules = set.rules.map((rule, i) => {
    const name = `moved_rule${i + 1}`;
    const target = fillTarget(rule, number => `{re.${name}.${number + 1}}`);
    const lines = [
      isPlace,
      regexp(set, `^${expressionOf(rule, asCharacter)}$`, `{http.vars.moved_path}`, name),
    ];
    return matcher(name, lines) + assign(name, found(answerOf(set, rule.status, target)));
  });
  return rules.reverse().join('') + singlesPart(set);
}

function singlesPart(set: RedirectSet): string {
  if (set.singles.length === 0) return '';
  const entries = entriesOf(set);
  const table = (source: string, kind: string, isWanted: (key: string) => boolean) => {
    const lines = entries
      .filter(({ key }) => isWanted(key))
      .map(({ key, answer }) => {
        const { moved_how, moved_to } = found(answer);
        const input = set.options.anyCase ? `~(?i)^${oneOfThese([characters(key)])}$` : characters(key);
        return `\t${quoted(input)} ${quoted(moved_how)} ${quoted(moved_to)}\n`;
      });
    const name = `moved_${kind}`;
    const [how, to] = [`{${name}_how}`, `{${name}_to}`];
    return `map ${quoted(source)} ${how} ${to} {\n${lines.join('')}}\n${matcher(name, [`vars_regexp ${how} ^\\d+[+=]$`])}${assign(name, { moved_how: how, moved_to: to })}`;
  };
  const [key, query] = ['{http.vars.moved_key}', '{http.vars.moved_query}'];
  return (
    table(key, 'page', one => !one.includes('?')) + table(key + query, 'exact', one => one.includes('?'))
  );
}

/** Answers what was found. */
function answerPart(set: RedirectSet): string {
  return kindsOf(set)
    .map(({ kind, get, other }) => {
      const isKind = `vars_regexp {http.vars.moved_how} ^${get}[${kind[3]}]$`;
      if (get === 410) return `${matcher('moved_gone', [isKind])}respond @moved_gone 410\n`;
      const [query, what] = kind.endsWith('+') ? ['{http.vars.moved_query}', 'with_query'] : ['', 'complete'];
      const rule = (status: number, method: string) => {
        const name = `moved_${status}_${what}`;
        return `${matcher(name, [method, isKind])}redir @${name} ${quoted(`{http.vars.moved_to}${query}`)} ${status}\n`;
      };
      return rule(get, 'method GET HEAD') + rule(other, 'not method GET HEAD');
    })
    .join('');
}

function samePath(set: RedirectSet, one: RedirectCase, i: number): string {
  if (one.target === undefined) return '';
  const rule = (status: number, method: string) => {
    const name = `moved${i + 1}_${status}`;
    const lines = [...conditions(one, set), method, regexp(set, `(?s)${patternOf(one)}`, uri, name)];
    return `${matcher(name, lines)}redir @${name} ${quoted(`${one.target}{re.${name}.1}{re.${name}.2}`)} ${status}\n`;
  };
  const status = statusOf(set, 301);
  return rule(status, 'method GET HEAD') + rule(status === 301 ? 308 : 307, 'not method GET HEAD');
}

function conditions({ hosts, scheme, except }: RedirectCase, set: RedirectSet): string[] {
  return [
    `host ${hosts.join(' ')}`,
    ...(scheme === undefined ? [] : [`protocol ${scheme}`]),
    ...except.map(one => `not ${regexp(set, one, uri)}`),
  ];
}

// Of several positive ones in a matcher, Caddy takes either.
const isPlace = 'not vars_regexp {http.vars.moved_path} ^$';

function regexp({ options }: RedirectSet, pattern: string, of: string, name = ''): string {
  return `vars_regexp ${name === '' ? '' : `${name} `}${of} ${quoted(options.anyCase ? `(?i)${pattern}` : pattern)}`;
}

function found(answer: string): { moved_how: string; moved_to: string } {
  return { moved_how: answer.slice(0, 4), moved_to: answer.slice(4) };
}

function matcher(name: string, lines: readonly string[]): string {
  return `@${name} {\n\t${lines.join('\n\t')}\n}\n`;
}

function assign(name: string, values: Readonly<Record<string, string>>): string {
  return Object.entries(values)
    .map(([variable, value]) => `vars @${name} ${variable} ${quoted(value)}\n`)
    .join('');
}

/** Caddyfiles are UTF-8. */
function characters(bytes: string): string {
  return Buffer.from(bytes, 'latin1').toString();
}

/** A token in backquotes, in which Caddyfiles read no escapes. */
function quoted(value: string): string {
  return `\`${value}\``;
}

function indented(lines: string): string {
  return lines.replace(/^(?=.)/gm, '\t');
}

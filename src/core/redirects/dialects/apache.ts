import { createHash } from 'node:crypto';
import { formatAddress } from '../../address/address.js';
import { casesOf, type RedirectCase } from '../cases.js';
import { oneOfThese } from '../path-pattern.js';
import type { RedirectSet } from '../redirect-set.js';
import { expressionOf } from '../rules/expression.js';
import { fillTarget } from '../rules/redirect-rule.js';
import { type DialectFile, hasBadEncoding, type RedirectDialect } from './dialect.js';
import { answerOf, type Entry, entriesOf, headOf, kindsOf, statusOf } from './entries.js';

/** The folder of the tables, beside the .htaccess. */
export const apacheTables = 'able-porter-redirects';
/** So many single redirects are read at every request, with the .htaccess. */
const mostInPlace = 100;
/** So many are in one of the tables, about. */
const inTable = 24;

/**
 * https://httpd.apache.org/docs/2.4/mod/mod_rewrite.html. The path is taken from the request line, which Apache has not
 * decoded, so that it does not matter in which folder the rules are; the query it appends itself, since newer versions refuse a
 * question mark that comes from a request. They are not inside `<IfModule>`: where the module is
 * missing, it is better to see that than to have no redirects. A folder without its closing slash is redirected at once.
 *
 * Apache reads an .htaccess anew at every request. Where there are many single redirects, they are in the .htaccess files of
 * folders, by the first digits of the MD5 of their path, and a request is led through the folder of its own digits and back.
 */
export const apache = {
  name: 'apache',
  title: 'Apache',
  serverHeader: /apache|litespeed/i,
  folder: 'apache',
  // It decodes the path before any rule is asked, and looks for a file of that name.
  refuses: page => {
    if (/%2f/i.test(page.split('?')[0]!)) return 'Apache answers 404 to an encoded slash';
    if (/%3f/i.test(page.split('?')[0]!)) return 'Apache answers 403 to an encoded question mark';
    if (hasBadEncoding(page)) return 'Apache answers 400 or 404 to an encoding that is none';
    return /[^/?]{240}/.test(page.split('?')[0]!)
      ? 'Apache answers 403 to a name of more than 255 bytes'
      : undefined;
  },
  where: (from, set) => {
    const tables = digitsFor(set) > 0 ? `, and the folder ${apacheTables} beside it` : '';
    return `Put the rules at the top of the .htaccess in the folder that ${formatAddress(from)}/ is served from, before any other rule${tables}.`;
  },
  files(set) {
    const entries = entriesOf(set);
    const digits = digitsFor(set);
    const main = { path: 'htaccess.txt', text: mainRules(set, digits > 0 ? [] : entries, digits) };
    return [main, ...(digits > 0 ? tables(set, entries, digits) : [])];
  },
} as const satisfies RedirectDialect;

/** How many hexadecimal digits name the table of a redirect; none where all are in one file. */
function digitsFor({ singles }: RedirectSet): number {
  if (singles.length <= mostInPlace) return 0;
  return Math.min(3, Math.max(1, Math.ceil(Math.log(singles.length / inTable) / Math.log(16))));
}

function mainRules(set: RedirectSet, entries: readonly Entry[], digits: number): string {
  const cases = casesOf(set);
  const isPlain = set.singles.length === 0 && set.rules.length === 0;
  return [
    headOf(set, '#'),
    'RewriteEngine On\nRewriteOptions AllowNoSlash\n',
    ...(isPlain ? [] : cases.map(one => place(set, one))),
    ...(isPlain ? [] : [key]),
    ...(digits > 0 ? [toTable(set, digits)] : []),
    listed(set, entries, 'moved'),
    ...set.rules.map(rule => ruleOf(set, rule)),
    ...cases.map(one => samePath(set, one)),
  ].join('');
}

/** Commas end a flag. */
const comma = 'RewriteCond , (,)\nRewriteRule ^ - [E=moved_comma:%1]\n';
/** The path without a closing slash. */
const key = 'RewriteCond %{ENV:moved_path} ^(/.*?)/?$\nRewriteRule ^ - [E=moved_key:%1]\n';

/** Which page is asked for: its path below the address. */
function place(set: RedirectSet, one: RedirectCase): string {
  const conditions = [
    'RewriteCond %{ENV:moved_path} ^$',
    ...conditionsOf(set, one),
    condition(set, '%{THE_REQUEST}', inRequest(`${one.base}(?:/([^?\\s]*))?(?:\\?\\S*)?(?: |$)`)),
  ];
  return `${conditions.join('\n')}\nRewriteRule ^ - [E=moved_path:/%1,E=moved_base:${escaped(one.folder.replaceAll(',', '%2C'))}]\n`;
}

/** Looks in the table where a page is, if it is in any. Where it is not, the request comes back. */
function toTable({ options }: RedirectSet, digits: number): string {
  const name = options.anyCase ? 'tolower(%{ENV:moved_key})' : '%{ENV:moved_key}';
  return `RewriteCond %{ENV:REDIRECT_STATUS} ^$
RewriteCond %{ENV:moved_path} .
RewriteCond expr "md5(${name}) =~ /^(${'.'.repeat(digits)})/"
RewriteRule ^ %{ENV:moved_base}/${apacheTables}/%1/ [E=moved_uri:%{REQUEST_URI},L]
`;
}

function tables(set: RedirectSet, entries: readonly Entry[], digits: number): DialectFile[] {
  const byDigits = new Map<string, Entry[]>();
  for (let n = 0; n < 16 ** digits; n++) byDigits.set(n.toString(16).padStart(digits, '0'), []);
  for (const one of entries) {
    const [path] = one.key.split('?');
    const hash = createHash('md5').update(path!, 'latin1').digest('hex');
    byDigits.get(hash.slice(0, digits))!.push(one);
  }
  return [...byDigits].map(([name, list]) => ({
    path: `${apacheTables}/${name}/.htaccess`,
    text: [
      'RewriteEngine On\n',
      listed(set, list, 'REDIRECT_moved'),
      'RewriteCond %{ENV:REDIRECT_moved_uri} .\nRewriteRule ^ %{ENV:REDIRECT_moved_uri} [L]\n',
    ].join(''),
  }));
}

/** Where the list of single redirects leads; those that compare a query come before. */
function listed(set: RedirectSet, entries: readonly Entry[], variables: string): string {
  if (entries.length === 0) return '';
  const [queries, paths] = [true, false].map(hasQuery =>
    entries.filter(({ key }) => key.includes('?') === hasQuery),
  );
  const parts = [queries!, paths!].map(list =>
    list.length === 0 ? '' : list.map(one => single(set, one, variables)).join('') + answers(set),
  );
  const hasComma = entries.some(({ answer }) => answer.includes(','));
  return (hasComma ? comma : '') + parts.join('');
}

function single(set: RedirectSet, { key: page, answer }: Entry, variables: string): string {
  const [path, ...query] = page.split('?');
  const noCase = set.options.anyCase ? ' [NC]' : '';
  const conditions = [`RewriteCond %{ENV:${variables}_key} ${quoted(`=${path}`)}${noCase}`];
  if (query.length > 0)
    conditions.push(`RewriteCond %{QUERY_STRING} ${quoted(`=${query.join('?')}`)}${noCase}`);
  // A question mark must be written here.
  if (answer.includes('?')) return forMethods(set, answer, conditions, escaped(answer.slice(4)));
  const value = escaped(answer).replaceAll(',', '%{ENV:moved_comma}');
  return `${conditions.join('\n')}\nRewriteRule ^ - [E=moved_to:${value}]\n`;
}

/** Answers what was found in a list. */
function answers(set: RedirectSet): string {
  const kinds = kindsOf(set).filter(({ get }) => get !== 410);
  const rules = kinds.map(({ kind, get }) =>
    forMethods(set, kind, [`RewriteCond %{ENV:moved_to} ^${get}[${kind[3]}](.*)$`], '%1'),
  );
  return `${rules.join('')}RewriteCond %{ENV:moved_to} =410=\nRewriteRule ^ - [G,L]\n`;
}

function ruleOf(set: RedirectSet, rule: RedirectSet['rules'][number]): string {
  const target = fillTarget(
    { target: rule.target.map(part => (typeof part === 'number' ? `%${part + 1}` : escaped(part))) },
    String,
  );
  const conditions = [condition(set, '%{ENV:moved_path}', `^${expressionOf(rule)}$`)];
  if (rule.status === 410) return `${conditions[0]}\nRewriteRule ^ - [G,L]\n`;
  return forMethods(
    set,
    answerOf(
      set,
      rule.status,
      fillTarget(rule, () => ''),
    ),
    conditions,
    target,
  );
}

function samePath(set: RedirectSet, one: RedirectCase): string {
  if (one.target === undefined) return '';
  const { base } = one;
  const behind = condition(
    set,
    '%{THE_REQUEST}',
    inRequest(`${base === '' ? '/([^?\\s]*)' : `${base}(?:/([^?\\s]*))?`}(?:\\?\\S*)?(?: |$)`),
  );
  return forMethods(
    set,
    `${statusOf(set, 301)}+`,
    [...conditionsOf(set, one), behind],
    `${escaped(one.target)}%1`,
  );
}

/** The same rule for GET and for other methods. @param answer begins with the status for GET, and a plus where the query is kept */
function forMethods(set: RedirectSet, answer: string, conditions: readonly string[], target: string): string {
  const get = statusOf(set, answer.startsWith('302') ? 302 : 301);
  const flags = `NE,L${answer[3] === '+' || answer.includes('?') ? '' : ',QSD'}`;
  const rule = (status: number, method: string) =>
    [
      `RewriteCond %{REQUEST_METHOD} ${method}`,
      ...conditions,
      `RewriteRule ^ ${target} [R=${status},${flags}]`,
    ].join('\n');
  return `${rule(get, '^(?:GET|HEAD)$')}\n${rule(get === 301 ? 308 : 307, '!^(?:GET|HEAD)$')}\n`;
}

function conditionsOf(set: RedirectSet, { hosts, scheme, except }: RedirectCase): string[] {
  return [
    `RewriteCond %{HTTP_HOST} ^${oneOfThese(hosts)}\\.?(?::\\d+)?$ [NC]`,
    ...(scheme === undefined ? [] : [`RewriteCond %{HTTPS} ${scheme === 'https' ? 'on' : '!on'}`]),
    ...except.map(one => condition(set, '%{THE_REQUEST}', `!${inRequest(one)}`)),
  ];
}

function condition({ options }: RedirectSet, of: string, pattern: string): string {
  return `RewriteCond ${of} ${quoted(pattern)}${options.anyCase ? ' [NC]' : ''}`;
}

/** A pattern within a request line: `GET /path?query HTTP/1.1`. */
function inRequest(pattern: string): string {
  // Where the path may end, a space follows in the request line.
  return `^\\S+ ${pattern.replace(/^\^/, '').replace('(?:[/?]|$)', '(?:[/? ]|$)')}`;
}

/** An argument with white space in it. */
function quoted(text: string): string {
  return `"${text.replaceAll('"', '\\"')}"`;
}

/** In a target, a percent sign begins the name of a variable, and a dollar sign that of a group. */
function escaped(text: string): string {
  return text.replace(/[%$\\]/g, '\\$&');
}

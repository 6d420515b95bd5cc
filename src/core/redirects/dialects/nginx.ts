import { casesOf, patternOf, type RedirectCase } from '../cases.js';
import { byteByByte, oneOfThese } from '../path-pattern.js';
import type { RedirectSet } from '../redirect-set.js';
import { expressionOf } from '../rules/expression.js';
import { fillTarget } from '../rules/redirect-rule.js';
import { hasBadEncoding, type RedirectDialect } from './dialect.js';
import { answerOf, entriesOf, headOf, kindsOf, statusOf } from './entries.js';

/**
 * https://nginx.org/en/docs/http/ngx_http_rewrite_module.html and ngx_http_map_module.html. The path is taken from $request_uri,
 * which nginx has not decoded, so that encoded bytes stay as they came and cannot end the header. Of the directives inside
 * `if`, `set` and `return` are the ones that are safe everywhere. A map compares without regard to letter case, so each of its
 * values begins with the key as it is written. Captures have names, since nginx encodes numbered ones in `set`.
 */
export const nginx = {
  name: 'nginx',
  title: 'nginx',
  serverHeader: /nginx|openresty/i,
  folder: 'nginx',
  refuses: page => (hasBadEncoding(page) ? 'nginx answers 400 to an encoding that is none' : undefined),
  where: (from, set) =>
    `Put redirects.conf at the top of the server block of ${from.host}, with every name of the site in server_name${set.singles.length > 0 ? ', and redirects-map.conf into the http block (such as conf.d)' : ''}, and reload nginx.`,
  files(set) {
    const server = { path: 'redirects.conf', text: serverPart(set) };
    return set.singles.length === 0 ? [server] : [server, { path: 'redirects-map.conf', text: mapPart(set) }];
  },
} as const satisfies RedirectDialect;

function serverPart(set: RedirectSet): string {
  const cases = casesOf(set);
  const isPlain = set.singles.length === 0 && set.rules.length === 0;
  return [
    headOf(set, '#'),
    'set $moved "$request_method $scheme://$host$request_uri";\n',
    ...(isPlain ? [] : [placePart(set, cases), singlesPart(set), rulesPart(set), answerPart(set)]),
    ...cases.map(one => samePath(set, one)),
  ].join('');
}

/** Which page is asked for: its path below the address, the same without a closing slash, and its query. */
function placePart(set: RedirectSet, cases: readonly RedirectCase[]): string {
  const blocks = cases.map(
    one =>
      `set $moved_ask "$moved_path $moved";\nif ($moved_ask ~ "^ ${caseSign(set)}\\S+ ${quotable(beginOf(one))}(?:/(?<moved_a>[^?]*?)(?<moved_c>/?))?(?:(?<moved_b>\\?.+)|\\?)?$") {\n    set $moved_path "/$moved_a$moved_c";\n    set $moved_key "/$moved_a";\n    set $moved_query "$moved_b";\n}\n`,
  );
  return `set $moved_path "";\nset $moved_query "";\nset $moved_key "";\nset $moved_to "";\n${blocks.join('')}`;
}

function singlesPart(set: RedirectSet): string {
  if (set.singles.length === 0) return '';
  // A value holds all keys that differ only in letter case, each with its answer.
  const found = (asked: string, map: string) =>
    set.options.anyCase
      ? `set $moved_ask "$moved_to ${map}";\nif ($moved_ask ~ "^ (?<moved_a>\\S+)$") {\n    set $moved_to "$moved_a";\n}\n`
      : `set $moved_ask "$moved_to ${asked} ${map}";\nif ($moved_ask ~ "^ (\\S+) (?:\\S+ \\S+ )*?\\1 (?<moved_a>\\S+)") {\n    set $moved_to "$moved_a";\n}\n`;
  const exact = set.singles.some(({ key }) => key.includes('?'))
    ? found('$moved_key$moved_query', '$moved_exact')
    : '';
  return exact + found('$moved_key', '$moved_single');
}

function rulesPart(set: RedirectSet): string {
  return set.rules
    .map(rule => {
      const target = fillTarget(rule, number => `\${moved_${number}}`);
      const end = answerOf(set, rule.status, target);
      return `set $moved_ask "$moved_to $moved_path";\nif ($moved_ask ~ "^ ${caseSign(set)}${quotable(expressionOf(rule, byteByByte, number => `(?<moved_${number}>`))}$") {\n    set $moved_to "${end}";\n}\n`;
    })
    .join('');
}

/** Answers what was found. */
function answerPart(set: RedirectSet): string {
  return kindsOf(set)
    .map(({ kind, get, other }) => {
      if (get === 410) return 'if ($moved_to = "410=") {\n    return 410;\n}\n';
      const query = kind.endsWith('+') ? '$moved_query' : '';
      const found = `${get}[${kind[3]}](.*)$`;
      return `set $moved_ask "$request_method $moved_to";\nif ($moved_ask ~ "^(?:GET|HEAD) ${found}") {\n    return ${get} $1${query};\n}\nif ($moved_to ~ "^${found}") {\n    return ${other} $1${query};\n}\n`;
    })
    .join('');
}

function samePath(set: RedirectSet, one: RedirectCase): string {
  if (one.target === undefined) return '';
  const behind = quotable(open(patternOf(one)));
  const rule = (status: number, method: string) =>
    `if ($moved ~ "^${caseSign(set)}${method} ${quotable(beginOf({ ...one, base: '' }))}${behind}") {\n    return ${status} ${one.target}$1$2;\n}\n`;
  const status = statusOf(set, 301);
  return rule(status, '(?:GET|HEAD)') + rule(status === 301 ? 308 : 307, '(?!GET |HEAD )\\S+');
}

/** Scheme, host and path of a case, in front of which the method is. */
function beginOf({ hosts, scheme, base, except }: RedirectCase): string {
  const not = except.map(one => `(?!${open(one)})`).join('');
  return `${scheme ?? 'https?'}://${oneOfThese(hosts)}${not}${base}`;
}

const open = (pattern: string) => pattern.replace(/^\^/, '');

const caseSign = ({ options }: RedirectSet) => (options.anyCase ? '(?i)' : '');

/** Part of a text between double quotes. */
function quotable(pattern: string): string {
  return pattern.replaceAll('"', '\\"');
}

function mapPart(set: RedirectSet): string {
  const lines = new Map<string, string[]>();
  for (const { key, answer } of entriesOf(set)) {
    const same = key.replace(/[A-Z]/g, letter => letter.toLowerCase());
    const value = set.options.anyCase ? answer : `${key} ${answer}`;
    lines.set(same, [...(lines.get(same) ?? []), value]);
  }
  const all = [...lines].map(([key, values]) => `    ${text(key)} ${text(values.join(' '))};\n`);
  const [paths, queries] = [false, true].map(hasQuery =>
    all.filter((_, i) => [...lines.keys()][i]!.includes('?') === hasQuery).join(''),
  );
  const longest = Math.max(...[...lines.keys()].map(key => key.length));
  const bucket = 2 ** Math.ceil(Math.log2(longest + 64));
  return `${headOf(set, '#')}# Remove the next two lines where nginx calls them duplicate, and see that its values are at least these.
map_hash_bucket_size ${Math.max(bucket, 128)};
map_hash_max_size ${2 ** Math.ceil(Math.log2(Math.max(lines.size * 2, 2048)))};
map $moved_key $moved_single {
${paths}}
map $moved_key$moved_query $moved_exact {
${queries}}
`;
}

function text(value: string): string {
  return `"${value.replace(/[\\"]/g, '\\$&')}"`;
}

import { type ByteString, textOf } from '../../bytes.js';

const hidden = '••••';

/** Values that give nothing away wherever they stand. */
const harmless =
  /^(?:|true|false|on|off|yes|no|null|all|none|utf-?8(?:mb[34])?(?:_\w+)?|latin1|localhost(?::\d{1,5})?|127\.0\.0\.1|::1|-?\d{1,5}[kmg]?|\/|\.{1,2}|[\w./-]{1,80}\.(?:php|html?)|production|development|staging|debug|info|error|warning)$/i;

/**
 * Two states of a file as texts that may be shown. A value is shown only where it is known to be no secret, or where it gives
 * nothing away; every other value, and every comment, is hidden, and where the two states differ in it, that is marked.
 * @param known values that may be shown: names, hosts, addresses and the like
 */
export function maskedPair(
  path: string,
  before: ByteString,
  after: ByteString,
  known: ReadonlySet<string>,
): { before: string; after: string } {
  const mask = maskFor(path);
  const values = { before: new Set<string>(), after: new Set<string>() };
  const isShown = (value: string) => known.has(value) || harmless.test(value);
  const collect = (text: string, into: Set<string>) =>
    mask(text, value => {
      if (isShown(value)) return value;
      into.add(value);
      return hidden;
    });
  collect(textOf(before), values.before);
  collect(textOf(after), values.after);
  const shown = (text: string, others: ReadonlySet<string>, which: string) =>
    mask(text, value => {
      if (isShown(value)) return value;
      return others.has(value) ? hidden : `${hidden} ${which}`;
    });
  return {
    before: shown(textOf(before), values.after, 'old'),
    after: shown(textOf(after), values.before, 'new'),
  };
}

/** Gives a text with every value that it holds replaced. */
type Mask = (text: string, replace: (value: string) => string) => string;

function maskFor(path: string): Mask {
  if (/\.(?:php\d?|inc|phtml)$/i.test(path)) return maskPhp;
  return /(?:^|\/)\.htaccess$|\.conf$/.test(path) ? byLine(maskDirective) : byLine(maskSetting);
}

/** Comments, strings, and long numbers of a PHP program. */
const phpToken =
  /(\/\*[\s\S]*?(?:\*\/|$)|\/\/[^\n]*|#(?!\[)[^\n]*)|<<<\s*(['"]?)(\w+)\2[ \t]*\r?\n([\s\S]*?)\n[ \t]*\3\b|'((?:[^'\\]|\\[\s\S])*)(?:'|$)|"((?:[^"\\]|\\[\s\S])*)(?:"|$)|`[^`]*`?|\b0x[0-9a-f]{5,}\b|\b\d{6,}\b/gi;
const plainKey = /^[A-Za-z][\w.-]{0,60}$/;

function maskPhp(text: string, replace: (value: string) => string): string {
  return text.replace(phpToken, (whole: string, comment, _quote, label, here, single, double, at: number) => {
    if (comment !== undefined) {
      const lines = String(comment).split('\n').length;
      const kind = whole.startsWith('/*') ? '/* … */' : whole.startsWith('#') ? '# …' : '// …';
      return kind + '\n'.repeat(lines - 1);
    }
    if (label !== undefined) {
      const value = replace(String(here));
      return `<<<'${label}'\n${value}${'\n'.repeat(String(here).split('\n').length - 1)}\n${label}`;
    }
    const value = single ?? double;
    if (value === undefined) return replace(whole) === whole ? whole : hidden;
    if (plainKey.test(value) && isKey(text, at, at + whole.length)) return whole;
    const shown = replace(String(value));
    return shown === value ? whole : `'${shown}'`;
  });
}

/** Whether a string names something: the key of an array, or what a constant or a variable of the environment is called. */
function isKey(text: string, start: number, end: number): boolean {
  const before = text.slice(Math.max(0, start - 40), start);
  const after = text.slice(end, end + 20);
  if (/^\s*=>/.test(after)) return true;
  if (/[\w\])}]\s*\[\s*$/.test(before) && /^\s*\]/.test(after)) return true;
  return /\b(?:define|defined|getenv|env|constant|ini_set|ini_get)\s*\(\s*$/i.test(before);
}

function byLine(mask: Mask): Mask {
  return (text, replace) =>
    text
      .split('\n')
      .map(line => (/^\s*$/.test(line) ? line : mask(line, replace)))
      .join('\n');
}

/** Directives of a web server whose arguments are no secrets. */
const openDirective =
  /^\s*(?:<\/?(?:IfModule|IfDefine|IfVersion|Files|FilesMatch|Directory|Limit|LimitExcept|If|Else|ElseIf|RequireAll|RequireAny|RequireNone)\b|(?:RewriteEngine|RewriteBase|RewriteOptions|Redirect|RedirectMatch|RedirectPermanent|RedirectTemp|ErrorDocument|DirectoryIndex|Options|AllowOverride|Order|Allow|Deny|Require|Satisfy|ExpiresActive|ExpiresByType|ExpiresDefault|AddType|AddHandler|SetHandler|AddOutputFilter|AddOutputFilterByType|AddEncoding|AddCharset|AddDefaultCharset|DefaultType|FileETag|ServerSignature|AuthType|AcceptPathInfo|FallbackResource)\b)/i;

function maskDirective(line: string, replace: (value: string) => string): string {
  if (/^\s*#/.test(line)) return line.replace(/#.*/, '# …');
  if (/^\s*RewriteRule\b/i.test(line))
    // What is after a question mark may be a key.
    return line.replace(/(\?)([^\s"[\]]+)/g, (_, mark: string, value: string) => mark + replace(value));
  const cond = /^(\s*RewriteCond\s+)(\S+)(\s+)(.*)$/i.exec(line);
  if (
    cond &&
    /^%\{(?:HTTP_HOST|SERVER_NAME|SERVER_PORT|HTTPS|REQUEST_URI|REQUEST_FILENAME|REQUEST_METHOD|REQUEST_SCHEME)\}$/i.test(
      cond[2]!,
    )
  )
    return line;
  if (openDirective.test(line)) return line;
  const [, name = '', rest = ''] = /^(\s*\S+\s*)(.*?)\s*$/.exec(line) ?? [];
  const flag = /^\s*php_(?:admin_)?(?:value|flag)\s*$/i.test(name) && /^(\S+\s+)(.*)$/.exec(rest);
  if (flag) return `${name}${flag[1]}${replace(flag[2]!)}`;
  return rest === '' ? name : name + replace(rest);
}

/** A line of a file of settings: `name=value`, `name: value`, a section, or what nobody knows. */
function maskSetting(line: string, replace: (value: string) => string): string {
  if (/^\s*[#;]/.test(line)) return line.replace(/[#;].*/, match => `${match[0]} …`);
  if (/^\s*(?:\[[\w.-]+\]|[[\]{}(),]+|<\?xml[^>]*>|<\/[\w.-]+>|---)\s*$/.test(line)) return line;
  const found = /^(\s*(?:export\s+)?["']?[A-Za-z][\w.-]*["']?\s*[=:]\s*)(.*?)(,?\s*)$/.exec(line);
  if (!found) return line.replace(/\S.*/, replace(line.trim()));
  const [, name, value, end] = found;
  const quoted = /^(['"])(.*)\1$/.exec(value!);
  const shown = replace(quoted ? quoted[2]! : value!);
  return `${name}${shown === (quoted ? quoted[2] : value) ? value : shown}${end}`;
}

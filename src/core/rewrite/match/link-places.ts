const quote = `(?:\\\\*["']|&quot;|&#0*39;)`;

/** Places where a link is: attributes of HTML, CSS's url() and @import, string values of JSON, escaped or not. */
const inMarkup = new RegExp(
  [
    `\\b(?:href|src|action|formaction|poster|background|cite|manifest|data-[a-z-]*(?:href|src|url|link|image|background)[a-z-]*)\\s*=\\s*${quote}?`,
    `<object\\b[^<>]*\\sdata\\s*=\\s*${quote}?`,
    `\\bcontent\\s*=\\s*${quote}?\\s*[\\d.]*\\s*[;,]\\s*url\\s*=\\s*["']?`,
    `\\bsrcset\\s*=\\s*\\\\*["']`,
    `\\burl\\(\\s*(?:\\\\*["']|&quot;)?`,
    `@import\\s+(?:\\\\*["']|&quot;)`,
    `\\\\*"\\s*:\\s*\\\\*"`,
    `[[,]\\s*\\\\*"`,
  ]
    .map(one => `(?:${one})`)
    .join('|')
    .replace(/^/, '(?:')
    .replace(/$/, ')$'),
  'i',
);
/** Places in a script where nothing but a link can be: what is fetched, loaded, or gone to. */
const inScript = new RegExp(
  [
    '\\b(?:fetch|import|importScripts|sendBeacon|location\\.(?:assign|replace)|window\\.open)\\(\\s*',
    '(?:\\$|\\bjQuery|\\baxios)\\.\\w+\\(\\s*',
    '\\.open\\(\\s*\\\\*["\'][A-Z]+\\\\*["\']\\s*,\\s*',
    '\\bnew\\s+(?:URL|Worker|SharedWorker|EventSource|Request)\\(\\s*',
    '\\blocation(?:\\.href)?\\s*=\\s*',
    '\\b(?:url|ajaxurl)\\s*[:=]\\s*',
    '\\b(?:import|from)\\s+',
  ]
    .map(one => `(?:${one})`)
    .join('|')
    .replace(/^/, '(?:')
    .replace(/$/, ')\\\\*["\'`]$'),
);
/** Rules of a robots.txt (RFC 9309), also where an extension keeps them in the data. */
const inRobots = /(?:^|\n|\\n)[ \t]*(?:dis)?allow[ \t]*:[ \t]*$/i;
const inSrcset = /\bsrcset\s*=\s*\\*["'][^"'<>]*,\s*$/i;

/**
 * Whether a link without its host begins at an offset: surely, or perhaps, in quotes that may hold anything. The byte before
 * it rules out nearly all others.
 */
export function linkAt(s: string, low: number, start: number): 'surely' | 'perhaps' | 'no' {
  const before = (bytes: number) => s.slice(Math.max(low, start - bytes), start);
  switch (s[start - 1]) {
    case '"':
    case "'":
    case '`':
      return inMarkup.test(before(200)) || inScript.test(before(80)) ? 'surely' : 'perhaps';
    case '=':
    case '(':
    case ';':
      return inMarkup.test(before(200)) ? 'surely' : 'no';
    case ':':
      return inRobots.test(before(80)) ? 'surely' : 'no';
    case ' ':
    case ',':
    case '\n':
      return inSrcset.test(before(1000)) || inMarkup.test(before(200)) || inRobots.test(before(80))
        ? 'surely'
        : 'no';
    default:
      return 'no';
  }
}

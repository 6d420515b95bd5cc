/** What a file would give away, were it served. */
export interface Danger {
  readonly what: string;
  readonly level: 'stop' | 'warn';
}

/** By what files are, not by who made them. The first that fits counts. */
const dangers: readonly (readonly [RegExp, Danger])[] = [
  [/(?:^|\/)\.able-porter[^/]*\//, { what: 'what a move keeps for the way back', level: 'stop' }],
  [/\.sql(?:\.(?:gz|bz2|zip|xz|zst|7z))?$/i, { what: 'a database dump', level: 'stop' }],
  [
    /(?:^|\/)(?:wp-config|configuration|settings|settings\.local|LocalSettings|config|database|parameters)\.(?:php|inc|ya?ml|ini|json)(?:[.~_-](?:bak|old|save|orig|copy|backup|\d+|txt|swp|dist-old)|~|\.(?:bak|old|save|orig|txt|swp))$|(?:^|\/)\.?#?[\w-]*config[\w-]*\.php\.sw[op]$/i,
    { what: 'a copy of the configuration', level: 'stop' },
  ],
  [
    /(?:^|\/)\.env(?:\.\w+)?$|(?:^|\/)\.(?:htpasswd|my\.cnf|pgpass|netrc)$/i,
    { what: 'a file with passwords', level: 'stop' },
  ],
  [
    /(?:^|\/)\.(?:git|svn|hg)\/(?:HEAD|config|entries|wc\.db|requires)$/,
    { what: 'the version history', level: 'stop' },
  ],
  [/(?:^|\/)(?:id_rsa|id_ed25519|[\w.-]+\.(?:key|pem|p12|pfx))$/i, { what: 'a key', level: 'stop' }],
  [/\.(?:zip|tar|tgz|tar\.(?:gz|bz2|xz|zst)|7z|rar|bak)$/i, { what: 'an archive', level: 'warn' }],
  [/(?:^|\/)(?:error_log|debug\.log|[\w.-]+\.log)$/i, { what: 'a log', level: 'warn' }],
];

/** Names at which archives belong to a site: those that people upload to be downloaded, and parts of its program. */
const meant =
  /^(?:wp-content\/uploads\/\d{4}\/|images\/|media\/|sites\/[^/]+\/files\/)|(?:^|\/)(?:vendor|node_modules|tests?|fixtures|wp-includes)\//;

/** What a file of a site would give away, by its path; undefined for one that may be fetched. */
export function dangerOf(path: string): Danger | undefined {
  const found = dangers.find(([pattern]) => pattern.test(path))?.[1];
  if (found?.what === 'an archive' && meant.test(path)) return undefined;
  return found;
}

/** A file that keeps others from being listed: it is empty or a comment. */
const emptyScript = 200;

/**
 * Whether a file is a program where only uploads belong.
 * @param bytes its size
 * @param folders those in which the site writes, each with a closing slash
 */
export function isScriptInUploads(path: string, bytes: number, folders: readonly string[]): boolean {
  if (!/\.(?:php\d?|phtml|phar|pht|cgi|pl|asp|aspx|jsp)$/i.test(path)) return false;
  if (!folders.some(folder => path.startsWith(folder))) return false;
  return !(/(?:^|\/)index\.php$/.test(path) && bytes < emptyScript);
}

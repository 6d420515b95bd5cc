import type { ConfigurationFiles, FactName } from './facts.js';
import type { PhpDialect } from './php-facts.js';
import { readPhp } from './php-settings.js';

/** How the keys of a database's credentials are commonly called, in lower case, without a prefix such as `db_`. */
const keys: readonly (readonly [FactName, RegExp])[] = [
  ['user', /^(?:user|username|user_name|login)$/],
  ['password', /^(?:password|passwd|pass|pwd)$/],
  ['host', /^(?:host|hostname|server)$/],
  ['name', /^(?:name|dbname|database|schema|db)$/],
  ['port', /^port$/],
  ['prefix', /^(?:prefix|table_?prefix|tableprefix)$/],
  ['charset', /^(?:charset|encoding)$/],
];
const before = /^(?:db|database|mysql|mysqli|sql)_?(?=[a-z])/;
const addressKey = /^(?:(?:base|site|app|root|home)_?(?:url|address)|url)$/;

/**
 * Where a PHP file of no known family holds credentials and the address: an array that it returns, variables or constants.
 * The credentials are the first keys beside one another among which there are a user, a password and a database.
 */
export function credentialsDialect({ main, sources }: ConfigurationFiles): PhpDialect {
  const settings = readPhp(main, sources);
  const groups = new Map<string, Map<FactName, string>>();
  const names: Partial<Record<FactName, string>> = {};
  for (const [path, { value }] of settings?.values ?? []) {
    const dot = path.lastIndexOf('.');
    const own = path
      .slice(dot + 1)
      .replace('$', '')
      .toLowerCase();
    if (addressKey.test(own) && value !== undefined && /^https?:\/\//i.test(value))
      names.siteAddress ??= path;
    const short = own.replace(before, '');
    const fact = keys.find(([, pattern]) => pattern.test(short) || pattern.test(own))?.[0];
    if (!fact) continue;
    const group = groups.get(path.slice(0, Math.max(dot, 0))) ?? new Map<FactName, string>();
    groups.set(path.slice(0, Math.max(dot, 0)), group);
    if (!group.has(fact)) group.set(fact, path);
  }
  const credentials = [...groups.values()].find(group =>
    (['user', 'password', 'name'] as const).every(fact => group.has(fact)),
  );
  return { names: { ...names, ...Object.fromEntries(credentials ?? []) } };
}

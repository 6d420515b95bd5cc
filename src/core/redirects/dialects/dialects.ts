import { apache } from './apache.js';
import { caddy } from './caddy.js';
import { csv } from './csv.js';
import type { RedirectDialect } from './dialect.js';
import { nginx } from './nginx.js';
import { php } from './php.js';
import { staticPages } from './static.js';

/** Every dialect. A new one is one more file and one more line here. */
export const dialects = [
  apache,
  nginx,
  caddy,
  php,
  staticPages,
  csv,
] as const satisfies readonly RedirectDialect[];

export type DialectName = (typeof dialects)[number]['name'];

export const dialectNames: readonly DialectName[] = dialects.map(({ name }) => name);

/** The dialect that is written where nobody names one. */
export const usualDialect: DialectName = 'apache';

/** The dialect of a server by what it calls itself; undefined where that says nothing. */
export function dialectOfServer(serverHeader: string | undefined): DialectName | undefined {
  return dialects.find(dialect => dialect.serverHeader.test(serverHeader ?? ''))?.name;
}

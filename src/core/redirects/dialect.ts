import type { Address } from '../address/address.js';
import { apache } from './apache.js';
import { nginx } from './nginx.js';

/** How a web server is told to send visitors on. A new server is one more file and one more line below. */
export interface RedirectDialect {
  readonly file: string;
  /** Where the file belongs, in one sentence. */
  readonly where: (from: Address) => string;
  /** Sends every path below the old address to the same path below the new one, permanently. */
  samePath(from: Address, to: Address): string;
}

export const dialects: Readonly<Record<'apache' | 'nginx', RedirectDialect>> = { apache, nginx };

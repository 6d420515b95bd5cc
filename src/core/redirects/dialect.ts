import type { Address } from '../address/address.js';

/** How the rules of one kind of web server are written. */
export interface RedirectDialect {
  /** As the sheet names it. */
  readonly name: string;
  /** As a person calls the server. */
  readonly title: string;
  /** Recognises the server by the `Server` header of its answers (RFC 9110, section 10.2.4). */
  readonly serverHeader: RegExp;
  /** The file that holds the rules, in the move folder. */
  readonly file: string;
  /** Where the file belongs, in one sentence. */
  where(from: Address): string;
  /** Sends every path below the old address to the same path below the new one, permanently. */
  samePath(from: Address, to: Address): string;
}

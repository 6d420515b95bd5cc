import { createHash } from 'node:crypto';
import bcrypt from 'bcryptjs';
import type { Address } from '../../address/address.js';
import { type ByteString, bytesOfText } from '../../bytes.js';

/** One small change of a site's rows at the new end: which rows, and what becomes of them. */
export interface DataEdit {
  /** What it does, for a person: "Links dropped from the cache". */
  readonly what: string;
  /** The table, with its prefix. */
  readonly table: string;
  /** The columns of the key by which a row is found again. */
  readonly key: readonly string[];
  /** Rows are looked at where all of these hold. */
  readonly where: readonly Condition[];
  /** Takes rows away, or gives a column's new value; undefined where a row stays. */
  readonly change:
    | { readonly remove: true }
    | {
        readonly column: string;
        /** The column that `to` is given, where it is another one. */
        readonly from?: string;
        to(before: ByteString): ByteString | undefined;
      };
  /** The value is never shown or kept. */
  readonly secret?: boolean;
  /** What is held back by it, from a row's value before and after, to be switched on again later. */
  heldBack?(before: ByteString, after: ByteString): string[];
}

/** A condition on a column: equal to a text, or like one of several patterns of SQL. */
export type Condition =
  | { readonly column: string; readonly is: string }
  | { readonly column: string; readonly like: readonly string[] };

/** What the data of a site is to say, as the sheet has it. */
export interface DataWish {
  readonly newAddress: Address;
  readonly oldAddress: Address;
  /** Every address under which the old site is or was served, that one first. */
  readonly oldAddresses: readonly Address[];
  /** Of the new tables. */
  readonly prefix: string;
  /** Names of the new tables. */
  readonly tables: readonly string[];
  readonly title?: string | undefined;
  readonly tagline?: string | undefined;
  readonly searchEngines: 'keep' | 'hide' | 'show';
  /** Whether an extension is to be held back. */
  holdsBack(name: string): boolean;
  /** So many random bytes, for the salts of passwords. */
  random(bytes: number): Buffer;
  readonly administrator?:
    | { readonly login: string; readonly mail?: string | undefined; readonly password?: string | undefined }
    | undefined;
}

/** Takes all rows of a table away. */
export function emptied(what: string, table: string, key: string): DataEdit {
  return { what, table, key: [key], where: [], change: { remove: true }, secret: true };
}

/** Rounds of bcrypt, as a power of two: what PHP uses by default. */
const rounds = 10;

const alphabet = './0123456789ABCDEFGHIJKLMNOPQRSTUVWXYZabcdefghijklmnopqrstuvwxyz';

/**
 * A password's portable hash, which older and newer sites accept and many write again at the next login:
 * https://www.openwall.com/phpass/ (the iterated MD5 of `$P$`, 2^13 rounds).
 */
export function portableHash(password: string, random: DataWish['random']): string {
  const doublings = 13;
  const salt = saltOf(random(6));
  const md5 = (...parts: (string | Buffer)[]) =>
    parts.reduce((hash, part) => hash.update(part), createHash('md5')).digest();
  let digest = md5(salt, password);
  for (let i = 0; i < 2 ** doublings; i++) digest = md5(digest, password);
  return `$P$${alphabet[doublings]}${salt}${saltOf(digest)}`;
}

/**
 * A password's hash of a kind that a site accepts which wrote another: one that the language's own functions write
 * (https://www.php.net/password_hash) where it uses these, a portable one otherwise.
 */
export function hashLike(written: ByteString, password: string, random: DataWish['random']): ByteString {
  return bytesOfText(
    /^\$(?:2[aby]|argon2)/.test(written)
      ? `$2y${bcrypt.hashSync(password, bcryptSalt(random(16))).slice(3)}`
      : portableHash(password, random),
  );
}

/** A salt as bcrypt writes it. */
function bcryptSalt(salt: Buffer): string {
  return `$2b$${rounds}$${bcrypt.encodeBase64([...salt], salt.length)}`;
}

/** Bytes in the hash's own base 64: the lowest six bits first. */
function saltOf(bytes: Buffer): string {
  let text = '';
  for (let at = 0; at < bytes.length; at += 3) {
    const group = bytes.subarray(at, at + 3);
    let value = group[0]! | ((group[1] ?? 0) << 8) | ((group[2] ?? 0) << 16);
    for (let i = 0; i <= group.length; i++, value >>>= 6) text += alphabet[value & 63];
  }
  return text;
}

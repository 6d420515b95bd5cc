import { number, object, string, ValidationError } from 'yup';
import { DamageError } from '../errors.js';

/**
 * A crate as it is kept at a store: a folder of its own with the parts of its tar, each sealed for one key (age v1), the
 * key itself, sealed with the passphrase, and `stored.json`, which comes last and shows that all of it is there.
 */

/** What everybody who reads the store can see of a crate. */
export interface StoredCrate {
  readonly format: 'able-porter stored crate';
  readonly version: 1;
  /** When the crate was taken, and when the last of it was stored: ISO 8601, UTC. */
  readonly taken: string;
  readonly stored: string;
  readonly by: string;
  readonly note?: string | undefined;
  /** SHA-256 of its `crate.json`, in hex. */
  readonly crate: string;
  readonly from: { readonly address: string; readonly family: string };
  readonly counts: {
    readonly files: number;
    readonly bytes: number;
    readonly tables: number;
    readonly rows: number;
  };
  readonly parts: number;
  /** Of all parts together, as they are stored. */
  readonly bytes: number;
}

/** The names of what is in a stored crate's folder, besides its parts. */
export const storedIndex = 'stored.json';
export const storedKey = 'key.age';

const partPattern = /^crate\.tar\.(\d{3,6})\.age$/;
const folderPattern = /^[\w.-]{1,200}-\d{8}T\d{6}Z$/;

/** The folder of a crate at a store. @param taken ISO 8601, UTC */
export function storedName(move: string, taken: string): string {
  return `${move}-${new Date(taken).toISOString().slice(0, 19).replace(/[-:]/g, '')}Z`;
}

/** Whether a name is one that `storedName` gives; nothing else at a store is looked into. */
export function isStoredName(name: string): boolean {
  return folderPattern.test(name) && !name.startsWith('.');
}

/** The name of a part. @param number from 1 */
export function storedPart(number: number): string {
  return `crate.tar.${String(number).padStart(3, '0')}.age`;
}

/** Whether something in a stored crate's folder is ours. */
export function isOfStoredCrate(name: string): boolean {
  return name === storedIndex || name === storedKey || partPattern.test(name.replace(/\.partial$/, ''));
}

const count = number().strict().integer().min(0).required();
const text = string().strict();
const time = text
  .matches(/^\d{4}-\d\d-\d\dT[\d:.]+Z$/)
  .test('time', 'must be a time', value => !Number.isNaN(Date.parse(value ?? '')))
  .required();

const index = object({
  format: text.oneOf(['able-porter stored crate']).required(),
  version: number().strict().oneOf([1]).required(),
  taken: time,
  stored: time,
  by: text.max(200).required(),
  note: text.max(10_000),
  crate: text.matches(/^[0-9a-f]{64}$/).required(),
  from: object({ address: text.max(2000).required(), family: text.matches(/^[a-z]+$/).required() })
    .noUnknown()
    .required(),
  counts: object({ files: count, bytes: count, tables: count, rows: count }).noUnknown().required(),
  parts: count.min(1).max(999_999),
  bytes: count,
}).noUnknown();

/** @throws DamageError for what is no `stored.json` */
export function readStoredIndex(content: string, place: string): StoredCrate {
  try {
    return index.validateSync(JSON.parse(content), { strict: true }) as StoredCrate;
  } catch (cause) {
    if (!(cause instanceof ValidationError || cause instanceof SyntaxError)) throw cause;
    throw new DamageError(
      {
        doing: `Reading ${place}`,
        cause: `it is not what Able Porter writes (${cause.message})`,
        remedy: 'Store the crate again, or remove it from the store',
      },
      { cause },
    );
  }
}

/** A part as it is stored. */
export interface StoredPart {
  readonly name: string;
  readonly bytes: number;
  /** In hex. */
  readonly sha256: string;
}

/**
 * The content of `key.age`: an identity of age, and in its comments what the store itself cannot be trusted with, namely of
 * which crate it is and what the parts are.
 */
export interface StoredKey {
  readonly crate: string;
  readonly parts: readonly StoredPart[];
  readonly identity: string;
}

export function writeStoredKey({ crate, parts, identity }: StoredKey): string {
  const lines = parts.map(({ name, bytes, sha256 }) => `# ${sha256}  ${name}  ${bytes}`);
  return `${[`# ${crate}`, ...lines, identity].join('\n')}\n`;
}

/** @throws DamageError for another text */
export function readStoredKey(content: string, place: string): StoredKey {
  const lines = content.split('\n');
  const crate = /^# ([0-9a-f]{64})$/.exec(lines[0] ?? '')?.[1];
  const identity = lines.find(line => /^AGE-SECRET-KEY-1[0-9A-Z]+$/.test(line));
  const parts = lines.slice(1).flatMap(line => {
    const [, sha256, name, bytes] = /^# ([0-9a-f]{64}) {2}(\S+) {2}(\d+)$/.exec(line) ?? [];
    return name === undefined ? [] : [{ sha256: sha256!, name, bytes: Number(bytes) }];
  });
  const isOrdered = parts.every(({ name }, i) => name === storedPart(i + 1));
  if (crate !== undefined && identity !== undefined && isOrdered) return { crate, parts, identity };
  throw new DamageError({
    doing: `Reading ${place}`,
    cause: 'it is no key of a stored crate',
    remedy: 'Store the crate again',
  });
}

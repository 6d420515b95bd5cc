import type { HatchKeys } from './keys.js';

/** What is written into a hatch. */
export interface HatchSettings {
  /** Its name, without `.php`. */
  readonly name: string;
  readonly keys: HatchKeys;
  /** After this it removes itself, in seconds since 1970 by its own clock. */
  readonly ends: number;
  readonly seals: boolean;
  /** Where the secret lies, from the folder of the hatch; empty where it is in the hatch. */
  readonly secretFile: string;
  /** What the site answers for an address that does not exist. */
  readonly unknown: { readonly status: number; readonly type: string; readonly page: Buffer };
}

const marker = 'const SETTINGS = [/* written by the tool */];';

/**
 * The program of a hatch with its settings.
 * @param source hatch.php
 * @throws Error where the source has no place for them
 */
export function hatchProgram(source: string, settings: HatchSettings): string {
  const { name, keys, ends, seals, secretFile, unknown } = settings;
  const values: [string, string][] = [
    ['id', php(name)],
    ['algorithm', php(keys.algorithm)],
    ['key', php(keys.publicKey.toString('base64'))],
    ['secret', php(secretFile === '' ? keys.secret.toString('base64') : '')],
    ['secret-file', php(secretFile)],
    ['ends', String(Math.round(ends))],
    ['sealed', String(seals)],
    ['unknown', `[${unknown.status}, ${php(unknown.type)}, ${php(unknown.page.toString('base64'))}]`],
  ];
  if (!source.includes(marker)) throw new Error('hatch.php has no place for its settings');
  const text = values.map(([key, value]) => `    ${php(key)} => ${value},\n`).join('');
  return source.replace(marker, () => `const SETTINGS = [\n${text}];`);
}

/** What is asked before a hatch is put there: whether PHP runs, where, and what it has. It reveals nothing of the site. */
export function probeProgram(token: string, secretFile: string): string {
  return `<?php
/* A probe of Able Porter: shows that PHP runs here. It is removed at once; delete it if you find it. */
while (ob_get_level() > 0 && @ob_end_clean()) { }
header('Content-Type: application/json');
header('Cache-Control: no-store');
echo json_encode(['token' => ${php(token)}, 'php' => PHP_VERSION_ID, 'clock' => microtime(true),
    'sodium' => function_exists('sodium_crypto_sign_verify_detached'), 'openssl' => function_exists('openssl_verify'),
    'above' => @is_readable(__DIR__ . '/' . ${php(secretFile)}), 'keeps' => @is_writable(__DIR__) || @is_writable(sys_get_temp_dir())]);
`;
}

/** Text as a PHP literal in which nothing but itself is said. */
function php(text: string): string {
  return `'${text.replace(/[\\']/g, '\\$&')}'`;
}

import { readFile, stat } from 'node:fs/promises';
import { parse as parseDotenv } from 'dotenv';
import { UsageError } from '../../core/errors.js';
import { toPorterError } from '../system-errors.js';
import { writeWhole } from '../whole-file.js';

/**
 * The secrets of a `.env` file; none where there is no such file.
 * @throws UsageError where others can read it
 */
export async function readSecretsFile(file: string): Promise<Record<string, string>> {
  let text: string;
  try {
    const { mode } = await stat(file);
    if ((mode & 0o077) !== 0 && process.platform !== 'win32') {
      throw new UsageError({
        doing: `Reading the secrets in ${file}`,
        cause: 'others on this machine can read it',
        remedy: `Close it first: chmod 600 ${file}`,
      });
    }
    text = await readFile(file, 'utf8');
  } catch (error) {
    if ((error as NodeJS.ErrnoException).code === 'ENOENT') return {};
    throw toPorterError(error, `Reading the secrets in ${file}`);
  }
  return parseDotenv(text);
}

/**
 * Puts a secret into a `.env` file that only its owner can read, in place of what had its name.
 * @throws UsageError for one that no kind of quotes can hold
 */
export async function writeSecret(file: string, name: string, secret: string): Promise<void> {
  const quote = ["'", '`', '"'].find(one => !secret.includes(one) && (one !== '"' || !secret.includes('\\')));
  if (quote === undefined || /[\r\n]/.test(secret)) {
    throw new UsageError({
      doing: `Writing ${file}`,
      cause: 'the password holds every kind of quotes, or a line end',
      remedy: `Give it as the environment's ${name} instead, or set another one at the host`,
    });
  }
  const before = await readFile(file, 'utf8').catch(() => '');
  const others = before.split('\n').filter(line => line !== '' && !line.startsWith(`${name}=`));
  await writeWhole(file, `${[...others, `${name}=${quote}${secret}${quote}`].join('\n')}\n`, 0o600);
}

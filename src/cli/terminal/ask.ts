import { DeclinedError, UsageError } from '../../core/errors.js';
import type { Unknown } from '../../ends/trust/ask-trust.js';
import type { Common } from './common-options.js';

/**
 * Asks before something is destroyed or overwritten; comes back only when it may be.
 * @throws UsageError where no terminal is there to ask and --yes was not given
 */
export async function askFirst(question: string, argv: Common): Promise<void> {
  if (argv.yes) return;
  if (!process.stdin.isTTY || !process.stderr.isTTY) {
    throw new UsageError({
      doing: question.replace(/\?$/, ''),
      cause: 'this would be asked first, and there is no terminal to ask at',
      remedy: 'Look at what it says, then run it again with --yes',
    });
  }
  const { confirm } = await import('@inquirer/prompts');
  if (await confirm({ message: question, default: false }, { output: process.stderr })) return;
  throw new DeclinedError();
}

/** Shows the fingerprint of a host that is not known yet, and asks whether it is the right one. */
export async function askTrust({ host, what, fingerprint, why }: Unknown): Promise<boolean> {
  if (!process.stdin.isTTY || !process.stderr.isTTY) return false;
  const { confirm } = await import('@inquirer/prompts');
  const seen =
    what === 'key'
      ? `${host} is not known yet. Its key is ${fingerprint}.`
      : `The certificate of ${host} is not accepted: ${why}. Its fingerprint is ${fingerprint}.`;
  const message = `${seen} Is that the one that its panel shows?`;
  return confirm({ message, default: false }, { output: process.stderr });
}

/** Asks for a passphrase twice. @throws UsageError where no terminal is there to ask at, or the two differ */
export async function newPassphrase(): Promise<string> {
  const first = await passphraseFor('the crate');
  if (first !== '' && first === (await passphraseFor('the crate, once more'))) return first;
  throw new UsageError({
    doing: 'Reading a passphrase',
    cause: first === '' ? 'it is empty' : 'the two are not the same',
    remedy: 'Run the command again',
  });
}

/**
 * The password of a database that is named by its URL: from DATABASE_PASSWORD, or asked for. Undefined where it is
 * in the URL, or there is no terminal to ask at.
 */
export async function databasePassword(url: string): Promise<string | undefined> {
  const { DATABASE_PASSWORD: given } = process.env;
  if (given !== undefined || /^mysql:\/\/[^@/]*:[^@/]*@/.test(url)) return given;
  if (!process.stdin.isTTY || !process.stderr.isTTY) return undefined;
  const { password } = await import('@inquirer/prompts');
  return password({ message: `Password for ${url}`, mask: true }, { output: process.stderr });
}

/** Asks for a passphrase. @throws UsageError where no terminal is there to ask at */
export async function passphraseFor(what: string): Promise<string> {
  if (!process.stdin.isTTY || !process.stderr.isTTY) {
    throw new UsageError({
      doing: `Asking for the passphrase of ${what}`,
      cause: 'there is no terminal to ask at',
      remedy: 'Write crate: { passphrase: ${CRATE_PASSPHRASE} } into the sheet, and the passphrase into .env',
    });
  }
  const { password } = await import('@inquirer/prompts');
  return password({ message: `Passphrase of ${what}`, mask: true }, { output: process.stderr });
}

import { UsageError } from '../core/errors.js';
import type { Common } from './command.js';

/** What the person says no to ends the command, and nothing was done. */
export const declined = 'declined';

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
  throw new DOMException(declined, 'AbortError');
}

/** Shows the fingerprint of a host that is not known yet, and asks whether it is the right one. */
export async function askHostKey(host: string, fingerprint: string): Promise<boolean> {
  if (!process.stdin.isTTY || !process.stderr.isTTY) return false;
  const { confirm } = await import('@inquirer/prompts');
  const message = `${host} is not known yet. Its key is ${fingerprint}. Is that the one that its panel shows?`;
  return confirm({ message, default: false }, { output: process.stderr });
}

import { UsageError } from '../core/errors.js';
import type { Common } from './command.js';

/**
 * Asks before something is destroyed or overwritten.
 * @throws UsageError where no terminal is there to ask and --yes was not given
 */
export async function mayGoOn(question: string, argv: Common): Promise<boolean> {
  if (argv.yes) return true;
  if (!process.stdin.isTTY || !process.stderr.isTTY) {
    throw new UsageError({
      doing: question.replace(/\?$/, ''),
      cause: 'this would be asked first, and there is no terminal to ask at',
      remedy: 'Look at what it says, then run it again with --yes',
    });
  }
  const { confirm } = await import('@inquirer/prompts');
  return confirm({ message: question, default: false }, { output: process.stderr });
}

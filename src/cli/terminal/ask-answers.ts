import { counted } from '../../core/text/numbers.js';
import type { AnswerTest } from '../../steps/start/answers.js';
import type { Interviewee } from '../../steps/start/interview.js';
import type { Terminal } from './terminal.js';

/** The person at a terminal. @param signal ends a question that is open */
export async function personAt(terminal: Terminal, signal: AbortSignal): Promise<Interviewee> {
  const { confirm, password, select, input } = await import('@inquirer/prompts');
  const to = { output: process.stderr, signal };
  return {
    async answer({ ask, kind, choices, must, wrong, none = 'for none' }, wish, offered) {
      if (kind === 'secret') return (await password({ message: ask, mask: true }, to)) || undefined;
      if (kind === 'yes or no') return confirm({ message: ask, default: offered === true }, to);
      if (choices) {
        const list = choices.map(value => ({ value }));
        return select({ message: ask, choices: list, default: offered as string | undefined }, to);
      }
      const optional = !must?.(wish);
      const wordsOf = (text: string) => (kind === 'list' ? text.trim().split(/[\s,]+/) : [text.trim()]);
      const suggested = [offered].flat().join(' ') || undefined;
      const answer = await input(
        {
          message: optional ? `${ask} (${suggested === undefined ? 'empty' : '-'} ${none})` : ask,
          default: suggested,
          validate: text => {
            const words = wordsOf(text);
            if (isNone(words)) return optional || 'An answer is needed here';
            return words.map(word => wrong?.(word)).find(why => why !== undefined) ?? true;
          },
        },
        to,
      );
      const words = wordsOf(answer);
      if (isNone(words)) return undefined;
      return kind === 'list' ? words : words[0];
    },
    choose: (message, list) => select({ message, choices: [...list], pageSize: 30 }, to),
    resumes: answers =>
      terminal.message(
        `Continuing with ${counted(answers, 'answer')} of an interrupted run. Each can be changed at the end.`,
      ),
    show: test => terminal.message(showTest(test, terminal)),
  };
}

/** Where something is suggested, Enter alone would accept it. */
const isNone = (words: readonly string[]) => words[0] === '' || words[0] === '-';

/** The result of a test, and what to do about it. */
export function showTest({ good, said, remedy }: AnswerTest, { colors }: Pick<Terminal, 'colors'>): string {
  const mark = good === undefined ? colors.dim('·') : good ? colors.green('✓') : colors.red('✗');
  return `  ${mark} ${said}${remedy === undefined ? '' : `\n    → ${remedy}`}`;
}

import { AnswerTests } from '../../steps/start/answer-checks.js';
import type { AnswerTest, Secrets, StartWish } from '../../steps/start/answers.js';
import { type Question, questions, testsLater, variableOf } from '../../steps/start/questions.js';
import { askTrust } from './ask.js';
import type { Terminal } from './terminal.js';

/** What the person answered, and what the tests of it found. */
export interface Answered {
  readonly wish: StartWish;
  readonly tests: AnswerTests;
  /** What the person gave, by the variable that is to hold it. */
  readonly secrets: Secrets;
}

/**
 * Asks for what the flags left open, in the order in which a person knows the answers. Each answer is tested as it
 * comes; what was found is offered for the questions that follow.
 */
export async function askForAnswers(
  given: StartWish,
  sheet: string,
  terminal: Terminal,
  signal: AbortSignal,
): Promise<Answered> {
  const prompts = await import('@inquirer/prompts');
  const to = { output: process.stderr, signal };
  const tests = new AnswerTests(sheet, signal, askTrust);
  let wish: StartWish = { ...given };
  let offers: Partial<StartWish> = {};
  const secrets: Record<string, string | undefined> = {};

  for (const question of questions) {
    const { key, test } = question;
    if (!(question.when?.(wish) ?? true)) continue;
    let answered = given[key] !== undefined;
    if (key === 'oldRecord') offers = { ...offers, oldRecord: await tests.records(wish.old!) };
    for (let done = false; !done; ) {
      if (!answered)
        wish = { ...wish, [key]: await putQuestion(prompts, to, { question, wish, offers, secrets }) };
      if (!test || testsLater(question, wish) || (wish[key] === undefined && !question.testsAnyway)) break;
      const result = await test(tests, wish, secrets);
      offers = { ...offers, ...result.offers };
      terminal.message(showTest(result, terminal));
      done =
        result.good !== false ||
        (await prompts.confirm({ message: 'Use this answer anyway?', default: false }, to));
      answered = false;
    }
  }
  return { wish, tests, secrets };
}

type Prompts = typeof import('@inquirer/prompts');

/** A question, with what is known when it is asked. */
interface Asked {
  readonly question: Question;
  readonly wish: StartWish;
  readonly offers: Partial<StartWish>;
  /** Receives a secret, by its variable. */
  readonly secrets: Record<string, string | undefined>;
}

/** Asks one question. @returns the answer as the wish holds it; undefined for none */
async function putQuestion(
  { confirm, password, select, input }: Prompts,
  to: { readonly output: NodeJS.WritableStream; readonly signal: AbortSignal },
  { question, wish, offers, secrets }: Asked,
): Promise<unknown> {
  const { key, ask, kind, choices, must, wrong } = question;
  const offered = offers[key] ?? question.initial?.(wish);
  if (kind === 'secret') {
    const variable = variableOf(question, wish);
    secrets[variable] = (await password({ message: ask, mask: true }, to)) || undefined;
    return secrets[variable] === undefined ? undefined : variable;
  }
  if (kind === 'yes or no') return confirm({ message: ask, default: false }, to);
  if (choices) {
    const list = choices.map(value => ({ value }));
    return select({ message: ask, choices: list, default: offered as string | undefined }, to);
  }
  const optional = !must?.(wish);
  const answer = await input(
    {
      message: optional ? `${ask} (empty for none)` : ask,
      default: [offered].flat().join(' ') || undefined,
      validate: text => {
        const words = kind === 'list' ? text.trim().split(/[\s,]+/) : [text.trim()];
        if (words[0] === '') return optional || 'An answer is needed here';
        return words.map(word => wrong?.(word)).find(why => why !== undefined) ?? true;
      },
    },
    to,
  );
  if (answer.trim() === '') return undefined;
  return kind === 'list' ? answer.trim().split(/[\s,]+/) : answer.trim();
}

/** The result of a test, in one line. */
export function showTest({ good, said }: AnswerTest, { colors }: Terminal): string {
  const mark = good === undefined ? colors.dim('·') : good ? colors.green('✓') : colors.red('✗');
  return `  ${mark} ${said}`;
}

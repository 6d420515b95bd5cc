import type { AnswerTests } from './answer-checks.js';
import type { AnswerTest, Secrets, StartWish } from './answers.js';
import { type Question, questions, testsLater, variableOf } from './questions.js';
import type { AnswerStore, SavedAnswers } from './saved-answers.js';

type Key = keyof StartWish;

/** A person who is asked. */
export interface Interviewee {
  /**
   * Asks one question.
   * @param offered the answer that is suggested
   * @returns the answer as the wish holds it, a secret as it was typed; undefined for none
   */
  answer(question: Question, wish: StartWish, offered: unknown): Promise<unknown>;
  /** Lets the person choose one of several things. */
  choose<Value extends string>(
    message: string,
    choices: readonly { readonly value: Value; readonly name: string }[],
  ): Promise<Value>;
  show(test: AnswerTest): void;
  /** Reports that answers of an interrupted interview are used. */
  resumes(answers: number): void;
}

/** What an interview works with. */
interface Materials {
  readonly given: StartWish;
  readonly tests: AnswerTests;
  readonly person: Interviewee;
  readonly store: AnswerStore;
  readonly signal: AbortSignal;
}

/**
 * Asks for what the flags left open, in the order in which a person knows the answers. Each answer is tested as it
 * comes, what was found is offered for the questions that follow, and every answer can be changed. Answers are kept as
 * they come: an interview that was interrupted resumes with them.
 */
export async function interview(materials: Materials): Promise<StartWish> {
  const saved = await materials.store.read();
  if (saved.answered.length > 0) materials.person.resumes(saved.answered.length);
  return new Interview(materials, saved).run();
}

const keep = 'keep';
const write = 'write';

class Interview {
  private readonly materials: Materials;
  private wish: StartWish;
  private offers: Partial<StartWish> = {};
  private readonly secrets: Record<string, string | undefined>;
  private readonly answered: Set<Key>;
  /** Answered, and tested as far as it can be. */
  private readonly settled = new Set<Key>();

  constructor(materials: Materials, saved: SavedAnswers & { readonly secrets: Secrets }) {
    this.materials = materials;
    this.wish = { ...saved.wish, ...defined(materials.given) };
    this.secrets = { ...saved.secrets };
    this.answered = new Set([...saved.answered, ...(Object.keys(defined(materials.given)) as Key[])]);
  }

  async run(): Promise<StartWish> {
    for (;;) {
      const question = this.applying.find(({ key }) => !this.settled.has(key));
      if (question) await this.settle(question);
      else {
        const change = await this.review();
        if (change === write) break;
        this.reopen(change);
      }
    }
    const left = questions.filter(one => !this.applying.includes(one)).map(({ key }) => [key, undefined]);
    return { ...this.wish, ...Object.fromEntries(left) };
  }

  private get applying(): readonly Question[] {
    return questions.filter(({ when }) => when?.(this.wish, this.materials.tests) ?? true);
  }

  private async settle(question: Question): Promise<void> {
    const { key } = question;
    if (!this.answered.has(key)) await this.ask(question);
    const result = await this.tested(question);
    if (result) {
      this.materials.person.show(result);
      this.offers = { ...this.offers, ...result.offers };
      if (result.good === false) {
        const choice = await this.whatToChange(question);
        if (choice !== keep) return this.reopen(choice);
      }
    }
    this.settled.add(key);
  }

  private async ask(question: Question): Promise<void> {
    const { key, offer, initial, kind } = question;
    const { person, tests, store } = this.materials;
    if (offer) this.offers = { ...this.offers, ...(await this.unlessAborted(offer(tests, this.wish))) };
    const offered = this.wish[key] ?? this.offers[key] ?? initial?.(this.wish);
    const answer = await person.answer(question, this.wish, offered);
    if (kind === 'secret') {
      const variable = variableOf(question, this.wish);
      this.secrets[variable] = answer as string | undefined;
      if (answer !== undefined) await store.saveSecret(variable, answer as string);
      this.wish = { ...this.wish, [key]: answer === undefined ? undefined : variable };
    } else this.wish = { ...this.wish, [key]: answer };
    this.answered.add(key);
    await store.save({ wish: this.wish, answered: [...this.answered] });
  }

  private async tested(question: Question): Promise<AnswerTest | undefined> {
    const { key, test, testsAnyway } = question;
    if (!test || testsLater(question, this.wish)) return undefined;
    if (this.wish[key] === undefined && !testsAnyway) return undefined;
    return this.unlessAborted(test(this.materials.tests, this.wish, this.secrets));
  }

  /** A test may wait for a host for long; a person who interrupts does not. */
  private unlessAborted<T>(work: Promise<T>): Promise<T> {
    const { signal } = this.materials;
    return new Promise((resolve, reject) => {
      const abort = () => reject(signal.reason as Error);
      if (signal.aborted) abort();
      signal.addEventListener('abort', abort, { once: true });
      work.then(resolve, reject).finally(() => signal.removeEventListener('abort', abort));
    });
  }

  private whatToChange({ key, concerns = [] }: Question): Promise<Key | typeof keep> {
    const involved = this.applying.filter(one => one.key === key || concerns.includes(one.key));
    const choices = [...involved].reverse().map(one => ({ value: one.key, name: this.named(one) }));
    const use = { value: keep, name: 'Use it as it is' } as const;
    return this.materials.person.choose<Key | typeof keep>('What would you like to change?', [
      ...choices,
      use,
    ]);
  }

  private review(): Promise<Key | typeof write> {
    const choices = this.applying.map(one => ({ value: one.key, name: this.named(one) }));
    const done = { value: write, name: 'Nothing: write the sheet' } as const;
    return this.materials.person.choose<Key | typeof write>('What would you like to change?', [
      done,
      ...choices,
    ]);
  }

  /** A question by its flag, with its answer; a secret is not shown. */
  private named({ key, flag, kind }: Question): string {
    const value = this.wish[key];
    const shown = kind === 'secret' ? (value === undefined ? 'none' : 'given') : [value].flat().join(' ');
    return `${flag}: ${shown === '' ? 'none' : shown}`;
  }

  /** Asks for an answer once more, and tests again what depends on it. */
  private reopen(key: Key): void {
    this.answered.delete(key);
    this.settled.delete(key);
    for (const { key: other, concerns } of questions) if (concerns?.includes(key)) this.settled.delete(other);
  }
}

function defined(wish: StartWish): StartWish {
  const keys = new Set<string>([...questions.map(({ key }) => key), 'name']);
  return Object.fromEntries(
    Object.entries(wish).filter(([key, value]) => keys.has(key) && value !== undefined),
  );
}

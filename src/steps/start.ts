import { basename, dirname, isAbsolute, join, resolve } from 'node:path';
import { formatAddress, parseAddress } from '../core/address/address.js';
import { UsageError } from '../core/errors.js';
import { type SheetAnswers, writeSheet } from '../core/sheet/write.js';
import { leftOutOf } from '../core/site/families.js';
import { readSecretsFile, writeSecret, writeWhole } from '../ends/move-folder.js';
import { telling } from '../ends/trouble.js';
import { questions, type StartWish, usualPassword } from './start-questions.js';
import { type AnswerTest, AnswerTests } from './start-tests.js';

export interface StartOutcome {
  readonly file: string;
  readonly family: string;
  /** What the test of each answer came to, by its flag. */
  readonly tests: readonly { readonly flag: string; readonly test: AnswerTest }[];
}

/** The flags without which no sheet can be written. */
export function missingAnswers(wish: StartWish): string[] {
  const missing = questions
    .filter(({ key, when, must }) => wish[key] === undefined && (when?.(wish) ?? true) && must?.(wish))
    .map(({ flag }) => `--${flag}`);
  return missing.map(flag => (flag === '--old-dump' ? '--old-files or --old-dump' : flag));
}

/**
 * Writes a commented sheet.
 * @param tested what was tested while the person was asked; answers from flags are tested here
 * @param password of the new database, as the person gave it; it goes to `.env` beside the sheet
 * @throws UsageError when an answer is missing or cannot be read
 */
export async function start(
  wish: StartWish,
  file: string,
  signal: AbortSignal,
  environment: Readonly<Record<string, string | undefined>>,
  tested?: { tests: AnswerTests; password: string | undefined },
): Promise<StartOutcome> {
  const missing = missingAnswers(wish);
  const doing = `Writing ${file}`;
  if (missing.length > 0) {
    throw new UsageError({
      doing,
      cause: `${missing.join(', ')} ${missing.length === 1 ? 'is' : 'are'} missing, and there is no terminal to ask at`,
      remedy: 'Give them as flags; "able-porter start --help" shows all of them',
    });
  }
  for (const { key, flag, wrong } of questions) {
    for (const answer of [wish[key]].flat()) {
      const why = typeof answer === 'string' ? wrong?.(answer) : undefined;
      if (why !== undefined)
        throw new UsageError({ doing, cause: `--${flag}: ${why}`, remedy: 'Correct it' });
    }
  }
  const tests = tested?.tests ?? new AnswerTests(file, signal);
  const results = tested ? [] : await testAll(wish, tests, await passwordOf(wish, file, environment));
  const variable = wish.newPassword ?? usualPassword;
  if (tested?.password !== undefined) {
    const secrets = join(dirname(resolve(file)), '.env');
    await telling(`Writing ${secrets}`, () => writeSecret(secrets, variable, tested.password!));
  }
  await telling(doing, () => writeWhole(resolve(file), writeSheet(answersOf(wish, tests, variable))));
  return {
    file: basename(file) === file ? `./${file}` : file,
    family: tests.oldSite?.family.name ?? 'plain',
    tests: results,
  };
}

async function testAll(
  wish: StartWish,
  tests: AnswerTests,
  password: string | undefined,
): Promise<StartOutcome['tests']> {
  const results: { flag: string; test: AnswerTest }[] = [];
  for (const { key, flag, when, test } of questions) {
    const given = wish[key] !== undefined || (key === 'newPassword' && wish.newServer !== undefined);
    if (test && given && (when?.(wish) ?? true))
      results.push({ flag, test: await test(tests, wish, password) });
  }
  return results;
}

async function passwordOf(
  wish: StartWish,
  file: string,
  environment: Readonly<Record<string, string | undefined>>,
): Promise<string | undefined> {
  const name = wish.newPassword ?? usualPassword;
  return environment[name] ?? (await readSecretsFile(join(dirname(resolve(file)), '.env')))[name];
}

function answersOf(wish: StartWish, tests: AnswerTests, variable: string): SheetAnswers {
  const next = formatAddress(parseAddress(wish.new!));
  return {
    name: wish.name ?? AnswerTests.nameFor(next),
    oldAddress: formatAddress(parseAddress(wish.old!)),
    also: (wish.also ?? []).map(one => formatAddress(parseAddress(one))),
    oldReach: wish.oldReach,
    oldFiles: wish.oldFiles,
    oldDump: wish.oldDump,
    newAddress: next,
    newReach: wish.newReach,
    newFiles: wish.newFiles,
    probe: wish.probe,
    newDump: wish.newDump,
    newServer: wish.newServer,
    passwordVariable: variable,
    newPrefix: wish.newPrefix,
    without: tests.oldSite ? leftOutOf(tests.oldSite.family) : [],
    pairs: isAbsolute(wish.newFiles ?? '')
      ? tests.oldFolders.map(from => ({ from, to: wish.newFiles! }))
      : [],
    leave: [],
    searchEngines: wish.searchEngines,
    webServer: wish.webServer === 'nginx' || wish.webServer === 'apache' ? wish.webServer : undefined,
    oldRecord: wish.oldRecord,
    newRecord: wish.newRecord,
  };
}

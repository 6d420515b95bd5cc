import { basename, dirname, isAbsolute, join, resolve } from 'node:path';
import { formatAddress, parseAddress } from '../core/address/address.js';
import { UsageError } from '../core/errors.js';
import { dialectNames } from '../core/redirects/dialects.js';
import { sheetJsonSchema } from '../core/sheet/json-schema.js';
import { type SheetAnswers, type SheetLogin, schemaFile, writeSheet } from '../core/sheet/write.js';
import { leftOutOf } from '../core/site/families/families.js';
import { readSecretsFile, writeSecret } from '../ends/move-folder/secrets.js';
import { whileDoing } from '../ends/system-errors.js';
import { writeWhole } from '../ends/whole-file.js';
import { AnswerTests } from './start/answer-checks.js';
import type { AnswerTest, Secrets, StartWish } from './start/answers.js';
import { questions, testsLater } from './start/questions.js';

export interface StartOutcome {
  readonly file: string;
  readonly family: string;
  /** The result of the test of each answer, by its flag. */
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
 * Secrets that the person gave go to `.env` beside the sheet.
 * @throws UsageError when an answer is missing or cannot be read
 */
export async function start(
  wish: StartWish,
  file: string,
  signal: AbortSignal,
  environment: Readonly<Record<string, string | undefined>>,
  tested?: { tests: AnswerTests; secrets: Secrets },
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
        throw new UsageError({ doing, cause: `--${flag}: ${why}`, remedy: 'Correct the option' });
    }
  }
  const tests = tested?.tests ?? new AnswerTests(file, signal);
  const results = tested ? [] : await testAll(wish, tests, await secretsOf(file, environment));
  tests.close();
  for (const [variable, secret] of Object.entries(tested?.secrets ?? {})) {
    const secrets = join(dirname(resolve(file)), '.env');
    if (secret !== undefined)
      await whileDoing(`Writing ${secrets}`, () => writeSecret(secrets, variable, secret));
  }
  // Beside the sheet, so that an editor finds it wherever the folder is.
  const schema = join(dirname(resolve(file)), schemaFile);
  await whileDoing(`Writing ${schema}`, () => writeWhole(schema, `${JSON.stringify(sheetJsonSchema())}\n`));
  await whileDoing(doing, () => writeWhole(resolve(file), writeSheet(answersOf(wish, tests))));
  return {
    file: basename(file) === file ? `./${file}` : file,
    family: tests.oldSite?.family.name ?? 'plain',
    tests: results,
  };
}

async function testAll(
  wish: StartWish,
  tests: AnswerTests,
  secrets: Secrets,
): Promise<StartOutcome['tests']> {
  const results: { flag: string; test: AnswerTest }[] = [];
  for (const question of questions) {
    const { key, flag, when, test } = question;
    const given = wish[key] !== undefined || question.testsAnyway;
    if (test && given && (when?.(wish) ?? true) && !testsLater(question, wish))
      results.push({ flag, test: await test(tests, wish, secrets) });
  }
  return results;
}

async function secretsOf(file: string, environment: Secrets): Promise<Secrets> {
  return { ...(await readSecretsFile(join(dirname(resolve(file)), '.env'))), ...environment };
}

/** What the sheet says of getting in at an end. */
function loginOf(key: string | undefined, variable: string | undefined): SheetLogin | undefined {
  if (key === undefined && variable === undefined) return undefined;
  return {
    ...(key === undefined ? {} : { key }),
    ...(variable === undefined ? {} : { password: `\${${variable}}` }),
  };
}

function answersOf(wish: StartWish, tests: AnswerTests): SheetAnswers {
  const next = formatAddress(parseAddress(wish.new!));
  return {
    name: wish.name ?? AnswerTests.nameFor(next),
    oldAddress: formatAddress(parseAddress(wish.old!)),
    also: (wish.also ?? []).map(one => formatAddress(parseAddress(one))),
    oldReach: wish.oldReach,
    oldFiles: wish.oldFiles,
    oldLogin: loginOf(wish.oldKey, wish.oldFilesPassword),
    oldDump: wish.oldDump,
    newAddress: next,
    newReach: wish.newReach,
    newFiles: wish.newFiles,
    newLogin: loginOf(wish.newKey, wish.newFilesPassword),
    probe: wish.probe,
    newDump: wish.newDump,
    newServer: wish.newServer,
    passwordVariable: wish.newPassword,
    newPrefix: wish.newPrefix,
    without: tests.oldSite ? leftOutOf(tests.oldSite.family) : [],
    pairs: isAbsolute(wish.newFiles ?? '')
      ? tests.oldFolders.map(from => ({ from, to: wish.newFiles! }))
      : [],
    leave: [],
    searchEngines: wish.searchEngines,
    webServer: dialectNames.find(name => name === wish.webServer),
    oldRecord: wish.oldRecord,
    newRecord: wish.newRecord,
  };
}

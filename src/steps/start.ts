import { basename, dirname, isAbsolute, join, resolve } from 'node:path';
import { formatAddress, parseAddress } from '../core/address/address.js';
import { UsageError } from '../core/errors.js';
import { dialectNames } from '../core/redirects/dialects/dialects.js';
import { sheetJsonSchema } from '../core/sheet/json-schema.js';
import { type SheetAnswers, type SheetLogin, schemaFile, writeSheet } from '../core/sheet/write.js';
import { leftOutOf } from '../core/site/families/families.js';
import { readSecretsFile } from '../ends/move-folder/secrets.js';
import { whileDoing } from '../ends/system-errors.js';
import { writeWhole } from '../ends/whole-file.js';
import { AnswerTests } from './start/answer-checks.js';
import type { AnswerTest, Secrets, StartWish } from './start/answers.js';
import { questions, testsLater } from './start/questions.js';

export interface StartOutcome {
  /** Undefined where a test failed: then no sheet is written. */
  readonly file: string | undefined;
  readonly family: string;
  /** The result of the test of each answer, by its flag. */
  readonly tests: readonly FlagTest[];
  /** Those that failed. */
  readonly failed: readonly FlagTest[];
}

interface FlagTest {
  readonly flag: string;
  readonly test: AnswerTest;
}

/** How a sheet is written. */
export interface StartOptions {
  readonly tests: AnswerTests;
  readonly environment: Secrets;
  /** Whether every answer was tested while the person was asked. */
  readonly isTested: boolean;
  /** Write the sheet although an answer fails its test. */
  readonly despiteTests: boolean;
}

/** The flags without which no sheet can be written. */
export function missingAnswers(wish: StartWish): string[] {
  const missing = questions
    .filter(({ key, when, must }) => wish[key] === undefined && (when?.(wish) ?? true) && must?.(wish))
    .map(({ flag }) => `--${flag}`);
  return missing.map(flag => (flag === '--old-dump' ? '--old-files or --old-dump' : flag));
}

/**
 * Tests the answers and writes a commented sheet.
 * @throws UsageError when an answer is missing or cannot be read
 */
export async function start(
  wish: StartWish,
  file: string,
  { tests, environment, isTested, despiteTests }: StartOptions,
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
  const results = isTested ? [] : await testAll(wish, tests, await secretsOf(file, environment));
  const failed = results.filter(({ test }) => test.good === false);
  const outcome = { family: tests.oldSite?.family.name ?? 'plain', tests: results, failed };
  if (failed.length > 0 && !despiteTests) return { ...outcome, file: undefined };
  // Beside the sheet, so that an editor finds it wherever the folder is.
  const schema = join(dirname(resolve(file)), schemaFile);
  await whileDoing(`Writing ${schema}`, () => writeWhole(schema, `${JSON.stringify(sheetJsonSchema())}\n`));
  await whileDoing(doing, () => writeWhole(resolve(file), writeSheet(answersOf(wish, tests))));
  return { ...outcome, file: basename(file) === file ? `./${file}` : file };
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
    newThrough: wish.newThrough,
    parts: wish.parts,
    newPrefix: wish.newPrefix,
    without: tests.oldSite ? leftOutOf(tests.oldSite.family) : [],
    pairs: isAbsolute(wish.newFiles ?? '')
      ? tests.oldFolders.map(from => ({ from, to: wish.newFiles! }))
      : [],
    leave: [],
    searchEngines: wish.searchEngines,
    switchOff: wish.switchOff,
    webServer: dialectNames.find(name => name === wish.webServer),
    oldRecord: wish.oldRecord,
    newRecord: wish.newRecord,
  };
}

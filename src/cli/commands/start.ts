import type { StartWish } from '../../steps/start/answers.js';
import { questions } from '../../steps/start/questions.js';
import { command } from '../program/command.js';

/** Flags whose names differ from those of the answers. A secret is named by its variable, never given itself. */
interface OwnFlags {
  readonly newPasswordVariable: string | undefined;
  readonly oldFilesPasswordVariable: string | undefined;
  readonly newFilesPasswordVariable: string | undefined;
  readonly newThroughFiles: boolean | undefined;
  readonly despiteTests: boolean;
}

export const start = command<StartWish & OwnFlags>({
  command: 'start',
  describe: 'Write move.yaml from answers or flags; each answer is tested',
  examples: [
    ['start', 'ask for both ends and write ./move.yaml'],
    [
      'start --old https://a.example/site --old-files ./htdocs/site --old-dump old.sql.gz --new https://b.example --new-files ./new --new-dump new.sql.gz',
      'write it from flags, asking nothing',
    ],
  ],
  options: argv => {
    argv.option('name', { type: 'string', describe: 'The name of the move in reports and folders' });
    for (const { flag, kind, describe, choices } of questions) {
      argv.option(flag, {
        type: kind === 'yes or no' ? 'boolean' : 'string',
        ...(kind === 'list' ? { array: true } : {}),
        ...(choices ? { choices } : {}),
        describe,
      });
    }
    return argv.option('despite-tests', {
      type: 'boolean',
      default: false,
      describe: 'Write the sheet although an answer fails its test',
    });
  },
  run: async argv => {
    const [
      { start: step, missingAnswers },
      { interview },
      { AnswerTests },
      { AnswerStore },
      { personAt, showTest },
      { askFirst, askTrust },
      { Terminal },
      { endSignal },
      { existsSync },
      { ExitCode },
    ] = await Promise.all([
      import('../../steps/start.js'),
      import('../../steps/start/interview.js'),
      import('../../steps/start/answer-checks.js'),
      import('../../steps/start/saved-answers.js'),
      import('../terminal/ask-answers.js'),
      import('../terminal/ask.js'),
      import('../terminal/terminal.js'),
      import('../program/with-move.js'),
      import('node:fs'),
      import('../../core/errors.js'),
    ]);
    const terminal = await Terminal.open(argv);
    const signal = endSignal();
    if (existsSync(argv.sheet)) await askFirst(`Overwrite ${argv.sheet}?`, argv);
    const given: StartWish = {
      ...argv,
      newPassword: argv.newPasswordVariable,
      oldFilesPassword: argv.oldFilesPasswordVariable,
      newFilesPassword: argv.newFilesPasswordVariable,
      newThrough: argv.newThroughFiles,
    };
    const asks = missingAnswers(given).length > 0 && process.stdin.isTTY && process.stderr.isTTY;
    const tests = new AnswerTests(argv.sheet, signal, askTrust);
    const store = new AnswerStore(argv.sheet);
    try {
      const wish = asks
        ? await interview({ given, tests, person: await personAt(terminal, signal), store, signal })
        : given;
      const { despiteTests } = argv;
      const sheet = await step(wish, argv.sheet, {
        tests,
        environment: process.env,
        isTested: asks,
        despiteTests,
      });
      for (const { flag, test } of sheet.tests) terminal.message(`--${flag}\n${showTest(test, terminal)}`);
      if (sheet.file === undefined) {
        const failed = sheet.failed.map(({ flag }) => `--${flag}`).join(', ');
        terminal.result(
          sheet,
          () =>
            `No sheet was written: ${failed} ${sheet.failed.length === 1 ? 'fails its test' : 'fail their tests'}.\n→ Correct what is marked above, or write the sheet all the same with --despite-tests`,
        );
        process.exitCode = sheet.failed[0]?.test.exitCode ?? ExitCode.stopped;
        return;
      }
      await store.clear();
      terminal.result(
        sheet,
        () => `Wrote ${sheet.file} (${sheet.family} site). Read it through, then run: able-porter survey`,
      );
    } finally {
      tests.close();
    }
  },
});

import type { StartWish } from '../../steps/start/answers.js';
import { questions } from '../../steps/start/questions.js';
import { command } from '../program/command.js';

/** Flags that name a variable; a secret itself is never given on the command line. */
interface Variables {
  readonly newPasswordVariable: string | undefined;
  readonly oldFilesPasswordVariable: string | undefined;
  readonly newFilesPasswordVariable: string | undefined;
}

export const start = command<StartWish & Variables>({
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
    return argv;
  },
  run: async argv => {
    const [
      { start: step, missingAnswers },
      { askForAnswers, showTest },
      { askFirst },
      { Terminal },
      { endSignal },
      { existsSync },
    ] = await Promise.all([
      import('../../steps/start.js'),
      import('../terminal/ask-answers.js'),
      import('../terminal/ask.js'),
      import('../terminal/terminal.js'),
      import('../program/with-move.js'),
      import('node:fs'),
    ]);
    const terminal = await Terminal.open(argv);
    const signal = endSignal();
    if (existsSync(argv.sheet)) await askFirst(`Overwrite ${argv.sheet}?`, argv);
    const given: StartWish = {
      ...argv,
      newPassword: argv.newPasswordVariable,
      oldFilesPassword: argv.oldFilesPasswordVariable,
      newFilesPassword: argv.newFilesPasswordVariable,
    };
    const asks = missingAnswers(given).length > 0 && process.stdin.isTTY && process.stderr.isTTY;
    const answered = asks ? await askForAnswers(given, argv.sheet, terminal, signal) : undefined;
    const sheet = await step(answered?.wish ?? given, argv.sheet, signal, process.env, answered);
    for (const { flag, test } of sheet.tests) terminal.message(`--${flag}\n${showTest(test, terminal)}`);
    terminal.result(
      sheet,
      () => `Wrote ${sheet.file} (${sheet.family} site). Read it through, then run: able-porter survey`,
    );
  },
});

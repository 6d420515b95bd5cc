import { moment } from '../../core/text/numbers.js';
import type { CheckResult } from '../../steps/check.js';
import type { StepOutcome, StepRun } from '../../steps/move/step.js';
import { command } from '../program/command.js';
import { gentleOption } from '../program/shared-options.js';

interface Options {
  readonly export: string | undefined;
  readonly look: boolean;
  readonly out: string | undefined;
}

export const check = command<Options>({
  command: 'check',
  describe: 'Compare the new end with the old: files, rows, pages, left-over addresses',
  examples: [
    ['check', 'compare all that the sheet names, and the pages where new.reach is given'],
    [
      'check --look',
      'open pages of both sites in a browser too, and write the pictures side by side to check.html',
    ],
    ['check --json > check.json', 'keep the result as a document'],
    ['check --export panel.sql.gz', 'compare what a web panel exported from the new database'],
  ],
  options: argv =>
    gentleOption(argv)
      .option('export', {
        type: 'string',
        describe: 'A dump that was exported from the new database, if it cannot be reached',
      })
      .option('look', {
        type: 'boolean',
        default: false,
        describe: 'Open pages of both sites in Chromium and compare the pictures',
      })
      .option('out', {
        type: 'string',
        describe: 'Where --look writes its page (check.html in the move folder)',
      }),
  run: async argv => {
    const [{ check: step }, { showCheck }, { showOutcome, withMove }] = await Promise.all([
      import('../../steps/check.js'),
      import('../show/check.js'),
      import('../program/with-move.js'),
    ]);
    await withMove(
      { ...argv, again: true },
      async (run, terminal) => {
        const outcome = await step(run, { exported: argv.export, look: argv.look });
        const file = await writeLooks(run, outcome, argv.out);
        if (file !== undefined) terminal.events({ type: 'message', text: `Wrote ${file}` });
        showOutcome(outcome, showCheck, terminal);
      },
      move => [move.newFiles],
    );
  },
});

/** Writes the pictures that were taken as one page. @returns its file */
async function writeLooks(
  { move }: StepRun,
  { result, findings }: StepOutcome<CheckResult>,
  out: string | undefined,
): Promise<string | undefined> {
  if (!result.looks || result.looks.length === 0) return undefined;
  const [{ lookPage }, { writePage }] = await Promise.all([
    import('../show/look-page.js'),
    import('../../steps/report.js'),
  ]);
  const about = {
    name: move.sheet.name,
    from: move.sheet.old.address,
    to: move.sheet.new.address,
    made: moment(new Date().toISOString()),
  };
  const page = await lookPage(
    about,
    result.looks,
    findings.filter(({ code }) => code.startsWith('look-')),
  );
  return writePage({ move }, 'check.html', page, out);
}

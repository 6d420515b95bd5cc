import { command } from '../program/command.js';

export const report = command<{ out?: string }>({
  command: 'report',
  describe: 'Write one self-contained HTML page about the whole move',
  examples: [
    ['report', 'report.html in the move folder, from what the steps measured'],
    ['report --out ~/saltmarsh.html', 'the same to another place'],
  ],
  options: argv =>
    argv.option('out', { type: 'string', describe: 'Where to write it (report.html in the move folder)' }),
  run: async argv => {
    const [{ gatherReport, writePage }, { reportPage }, { withMove }] = await Promise.all([
      import('../../steps/report.js'),
      import('../show/report-page.js'),
      import('../program/with-move.js'),
    ]);
    await withMove({ ...argv, looksOnly: true }, async (run, terminal) => {
      const gathered = await gatherReport(run);
      const file = await writePage(run, 'report.html', reportPage(gathered), argv.out);
      terminal.result(
        { ...gathered, file },
        () => `Wrote ${file}\nOpen it in a browser; it needs no network.`,
      );
    });
  },
});

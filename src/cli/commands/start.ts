import { command } from '../command.js';

interface Options {
  readonly name: string | undefined;
  readonly old: string | undefined;
  readonly also: readonly string[];
  readonly oldFiles: string | undefined;
  readonly oldDump: string | undefined;
  readonly new: string | undefined;
  readonly newFiles: string | undefined;
  readonly newDump: string | undefined;
  readonly newServer: string | undefined;
  readonly newPrefix: string | undefined;
  readonly webServer: string | undefined;
  readonly oldRecord: string | undefined;
  readonly newRecord: string | undefined;
}

export const start = command<Options>({
  command: 'start',
  describe: 'Write move.yaml by asking, or from flags',
  examples: [
    ['start', 'ask for both ends and write ./move.yaml'],
    [
      'start --old https://a.example/site --old-files ./htdocs/site --old-dump old.sql.gz --new https://b.example --new-files ./new --new-dump new.sql.gz',
      'write it from flags, asking nothing',
    ],
  ],
  options: argv =>
    argv
      .option('name', { type: 'string', describe: 'Names the move in reports and left-over folders' })
      .option('old', { type: 'string', describe: 'The old address' })
      .option('also', {
        type: 'string',
        array: true,
        default: [],
        describe: 'Another address it has been served under',
      })
      .option('old-files', { type: 'string', describe: 'The old site’s folder, with its configuration' })
      .option('old-dump', { type: 'string', describe: 'A dump of its database' })
      .option('new', { type: 'string', describe: 'The new address' })
      .option('new-files', { type: 'string', describe: 'The folder of the new site' })
      .option('new-dump', { type: 'string', describe: 'Where the finished dump is left' })
      .option('new-server', { type: 'string', describe: 'mysql://user@host/name, for the new configuration' })
      .option('new-prefix', { type: 'string', describe: 'A new table prefix' })
      .option('web-server', {
        type: 'string',
        choices: ['apache', 'nginx'],
        describe: 'What the old host is served by',
      })
      .option('old-record', { type: 'string', describe: 'The old host’s IP address' })
      .option('new-record', { type: 'string', describe: 'The new host’s IP address' }),
  run: async argv => {
    const [{ start: step, missingAnswers }, { askForAnswers }, { askFirst }, { Face }, { existsSync }] =
      await Promise.all([
        import('../../steps/start.js'),
        import('../ask-answers.js'),
        import('../ask.js'),
        import('../face.js'),
        import('node:fs'),
      ]);
    const face = await Face.open(argv);
    if (existsSync(argv.sheet)) await askFirst(`Overwrite ${argv.sheet}?`, argv);
    const asks = missingAnswers(argv).length > 0 && process.stdin.isTTY && process.stderr.isTTY;
    const sheet = await step(asks ? await askForAnswers(argv) : argv, argv.sheet);
    face.result(
      sheet,
      () => `Wrote ${sheet.file} (${sheet.family} site). Read it through, then run: able-porter survey`,
    );
  },
});

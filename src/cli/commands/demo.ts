import { command } from '../program/command.js';

export const demo = command<{
  keep: string | undefined;
  serve: boolean;
  database: string | undefined;
  hatch: string | undefined;
  store: boolean;
  fleet: boolean;
}>({
  command: 'demo',
  describe: 'A made-up site, two made-up hosts and a whole move, on this machine',
  examples: [
    ['demo', 'move the Saltmarsh Rowing Club and show what a move looks like'],
    ['demo --database mysql://root@127.0.0.1/', 'the same with both databases at a real server'],
    ['demo --store', 'the same, storing the crate at a simulated offsite service too'],
    ['demo --fleet', 'twelve clubs at once: one stops and is put right, then the DNS in waves'],
    ['demo --hatch', 'the same between hosts that have only FTP and a web server'],
    [
      'demo --keep saltmarsh --serve',
      'the same, leaving all in the folder saltmarsh, both hosts still there',
    ],
  ],
  options: argv =>
    argv
      .option('keep', { type: 'string', describe: 'Create it in this folder and keep it' })
      .option('database', {
        type: 'string',
        describe:
          'Take and load live at this MariaDB or MySQL server (mysql://administrator@host:port/, its password in DEMO_DATABASE_PASSWORD); makes two databases there and drops them',
      })
      .option('hatch', {
        type: 'string',
        choices: ['', 'simulated', 'php'],
        describe:
          'Both hosts have only FTP and a web server, and files go through hatches, which are simulated, or run by the PHP of this machine (--hatch php)',
      })
      .option('fleet', {
        type: 'boolean',
        default: false,
        describe: 'Twelve made-up clubs move at once, in place of one',
      })
      .option('store', {
        type: 'boolean',
        default: false,
        describe: 'Also store the crate, encrypted, at a simulated service that speaks S3',
      })
      .option('serve', {
        type: 'boolean',
        default: false,
        describe: 'Keep serving both sites until Ctrl-C, to try the commands on them',
      })
      .check(({ fleet, hatch, database, store }) => {
        if (fleet && (hatch !== undefined || database !== undefined || store))
          throw new Error('--fleet goes with --keep and --serve only');
        return true;
      }),
  run: async argv => {
    if (argv.fleet) return (await import('../fleet/demo.js')).fleetDemoCommand(argv);
    const [{ demo: play, demoPassed }, { showDemo }, { Terminal }, { endSignal }, { ExitCode }] =
      await Promise.all([
        import('../../steps/demo/demo.js'),
        import('../show/demo.js'),
        import('../terminal/terminal.js'),
        import('../program/with-move.js'),
        import('../../core/errors.js'),
      ]);
    const terminal = await Terminal.open(argv);
    const { DEMO_DATABASE_PASSWORD: password } = process.env;
    const hatches =
      argv.hatch === undefined ? undefined : argv.hatch === 'php' ? ('php' as const) : ('simulated' as const);
    const server = argv.database === undefined ? undefined : { url: argv.database, password };
    try {
      const signal = endSignal();
      await play(
        { keep: argv.keep, server, hatches, stores: argv.store, events: terminal.events, signal },
        async outcome => {
          terminal.result(outcome, () => showDemo(outcome, argv.serve, terminal.colors));
          if (!demoPassed(outcome)) process.exitCode = ExitCode.stopped;
          if (!argv.serve) return;
          terminal.message(
            'Both sites and hosts are still being served. Try the commands in another terminal; Ctrl-C ends it.',
          );
          await new Promise(resolve => signal.addEventListener('abort', resolve));
        },
      );
    } finally {
      terminal.endBar();
    }
  },
});

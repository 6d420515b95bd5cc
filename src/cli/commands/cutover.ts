import type { StepRun } from '../../steps/move/step.js';
import { command } from '../program/command.js';
import type { Common } from '../terminal/common-options.js';
import type { Terminal } from '../terminal/terminal.js';

const actions = ['plan', 'prepare', 'freeze', 'switch', 'watch', 'back', 'thaw', 'raise', 'night'] as const;

interface Options {
  readonly action: (typeof actions)[number];
  readonly byHand: boolean;
  readonly certificate: boolean;
  readonly minutes: number;
  readonly limit: number;
  readonly every: number;
  readonly here: boolean;
}

type Argv = Options & Common;

export const cutover = command<Options>({
  command: 'cutover [action]',
  describe: 'The DNS change: plan, prepare, freeze, switch, watch, and the way back',
  examples: [
    ['cutover', 'plan it from the zones as they are: what changes when, and what it endangers'],
    ['cutover prepare', 'lower the TTLs, create new names, put a marker at each end'],
    ['cutover prepare --certificate', 'also get the certificate for the new host, before visitors come'],
    ['cutover night', 'freeze, last pass, check, switch, watch and thaw, asking twice'],
    ['cutover watch --here', 'show which host this machine is led to'],
    ['cutover back', 'take back exactly what was changed'],
    ['cutover switch --by-hand', 'note that you have changed the records yourself: the move is live'],
  ],
  options: argv =>
    argv
      .positional('action', { choices: actions, default: 'plan' as const, describe: 'What to do' })
      .option('by-hand', {
        type: 'boolean',
        default: false,
        describe: 'For switch and back: you have changed the DNS yourself; only note it',
      })
      .option('certificate', {
        type: 'boolean',
        default: false,
        describe: 'For prepare: get a certificate for the new host from dns.certificate.directory',
      })
      .option('minutes', {
        type: 'number',
        default: 90,
        describe: 'For freeze and night: after so many minutes the old site opens by itself',
      })
      .option('limit', {
        type: 'number',
        default: 3600,
        describe: 'For watch and night: end the watch after so many seconds',
      })
      .option('every', {
        type: 'number',
        default: 5,
        describe: 'For watch and night: seconds between two rounds',
      })
      .option('here', {
        type: 'boolean',
        default: false,
        describe: 'For watch: only the host that a browser on this machine is led to',
      })
      .check(({ minutes, limit, every }) => {
        if (!(minutes >= 1 && minutes <= 1440)) throw new Error('--minutes is a number from 1 to 1440');
        if (!(limit >= 0) || !(every > 0)) throw new Error('--limit and --every are numbers of seconds');
        return true;
      }),
  run: async argv => {
    const { action } = argv;
    if (action === 'plan') {
      const [{ cutover: step }, { showCutover }, { runAndShow }] = await Promise.all([
        import('../../steps/cutover.js'),
        import('../show/cutover.js'),
        import('../program/with-move.js'),
      ]);
      return runAndShow(argv, step, showCutover);
    }
    const { withMove } = await import('../program/with-move.js');
    await withMove({ ...argv, looksOnly: action === 'watch' }, (run, terminal) => act(argv, run, terminal));
  },
});

async function act(argv: Argv, run: StepRun, terminal: Terminal): Promise<void> {
  const [
    { freeze, goBack, prepare, raise, switchOver, thaw, watch },
    { nightLine, showFreeze, showNight, showPhase, showThaw, showWatch },
    { showOutcome },
    { askFirst },
  ] = await Promise.all([
    import('../../steps/cutover/deeds.js'),
    import('../show/cutover.js'),
    import('../program/with-move.js'),
    import('../terminal/ask.js'),
  ]);
  const { action, byHand } = argv;
  if (byHand && (action === 'switch' || action === 'back')) return noteByHand(action, run, terminal);
  switch (action) {
    case 'prepare':
      await askFirst(prepareQuestion(argv, run), argv);
      return showOutcome(await prepare(run, argv), showPhase, terminal);
    case 'freeze':
      await askFirst(`Change the old site: refuse what writes for ${argv.minutes} minutes?`, argv);
      return showOutcome(await freeze(run, argv.minutes), showFreeze, terminal);
    case 'thaw':
      return showOutcome(await thaw(run), showThaw, terminal);
    case 'switch':
      await askFirst('Switch: visitors come to the new host from now on?', argv);
      return showOutcome(await switchOver(run), showPhase, terminal);
    case 'raise':
      await askFirst('Raise the TTLs again?', argv);
      return showOutcome(await raise(run), showPhase, terminal);
    case 'back':
      await askFirst(
        'Take back what the cutover has changed, so that visitors return to the old host?',
        argv,
      );
      return showOutcome(await goBack(run), showPhase, terminal);
    case 'watch': {
      const outcome = await watch(run, await watchOptions(argv, run, terminal));
      return showOutcome(outcome, showWatch(oldAddresses(run)), terminal);
    }
    default: {
      const { night } = await import('../../steps/cutover/night.js');
      const outcome = await night(run, {
        minutes: argv.minutes,
        watch: await watchOptions(argv, run, terminal),
        ask: question => askFirst(question, argv),
        began: what => terminal.message(`${what} …`),
        ended: part => terminal.message(nightLine(part)),
      });
      return showOutcome(outcome, showNight, terminal);
    }
  }
}

function prepareQuestion({ certificate }: Argv, { move }: StepRun): string {
  const authority = move.sheet.dns?.certificate?.directory;
  const more = certificate
    ? `, and get a certificate at ${authority}, whose terms of service you agree to`
    : '';
  return `Lower the TTLs, create the new names, and put a marker at each end${more}?`;
}

function oldAddresses(run: StepRun): readonly string[] {
  return run.move.sheet.dns?.['address-records']?.old ?? [];
}

/** At a terminal each round takes the place of the one before; elsewhere it is one line. */
async function watchOptions(argv: Argv, run: StepRun, terminal: Terminal) {
  const { showRound } = await import('../show/cutover.js');
  let drawn = 0;
  const show: Parameters<typeof import('../../steps/cutover/deeds.js').watch>[1]['show'] = round => {
    const sum = `${round.agreed} of ${round.of} answers lead to the new host${round.longest > 0 ? `; the longest of the others is kept for ${round.longest} s` : ''}`;
    if (!process.stderr.isTTY || argv.quiet || argv.jsonEvents) return terminal.message(sum);
    const text = `${showRound(round, oldAddresses(run), terminal.colors)}\n  ${sum}\n`;
    process.stderr.write(`${drawn > 0 ? `\u001b[${drawn}A\u001b[J` : ''}${text}`);
    drawn = text.split('\n').length - 1;
  };
  return { limit: argv.limit, every: argv.every, here: argv.here, show };
}

async function noteByHand(action: 'switch' | 'back', run: StepRun, terminal: Terminal): Promise<void> {
  const { noteByHand: note } = await import('../../steps/cutover/deeds.js');
  const life = await note(run, action);
  const text = {
    live: 'Noted: the DNS is switched and the move is live. What visitors write at the new site is no longer replaced.',
    open: 'Noted: visitors use the old site again, and the move is open.',
  };
  terminal.result({ life }, () => text[life]);
}

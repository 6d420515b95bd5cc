import { showable } from '../../core/text/display.js';
import type { StepRun } from '../../steps/move/step.js';
import { command } from '../program/command.js';
import { againOption, byContentOption, gentleOption, oneByOneOption } from '../program/shared-options.js';
import { keepHeapSmall } from '../program/small-heap.js';
import type { Common } from '../terminal/common-options.js';

interface Options {
  readonly again: boolean;
  readonly only: 'configuration' | undefined;
  readonly dryRun: boolean;
  readonly byContent: boolean;
  readonly mirror: boolean;
  readonly replaceChanges: boolean;
  readonly despiteRequirements: boolean;
  readonly readBack: 'all' | 'sample';
  readonly gentle: boolean;
  readonly crate: readonly string[] | undefined;
}

export const deliver = command<Options>({
  command: 'deliver',
  describe: 'Put files, database and configuration at the new end',
  examples: [
    ['deliver', 'make everything ready beside the new place, then put it there; what was there is kept'],
    ['deliver --yes', 'the same without asking, for a script'],
    ['deliver --dry-run', 'show what setting up would change in the files, and write nothing'],
    [
      'deliver --crate s3://bucket/prefix',
      'fetch the newest crate of this move from a store, and deliver it',
    ],
    [
      'deliver --crate saltmarsh.crate.tar.001',
      'unpack a crate that was brought here by hand, and deliver it',
    ],
    ['deliver --mirror', 'bring a delivery up to date, and remove what the old site no longer has'],
    ['deliver --replace-changes', 'replace what somebody has written at the new site since; it is kept'],
    ['deliver --only configuration', 'update the configuration and server files of a site that is there'],
  ],
  options: argv =>
    oneByOneOption(gentleOption(byContentOption(againOption(argv))))
      .option('crate', {
        type: 'string',
        array: true,
        describe:
          'Fetch this crate of a store (its name, or the store for the newest), or unpack this archive (or all of its parts); then rewrite it as the sheet says',
      })
      .option('mirror', {
        type: 'boolean',
        default: false,
        describe: 'Remove what an earlier delivery put there and the old site no longer has',
      })
      .option('replace-changes', {
        type: 'boolean',
        default: false,
        describe: 'Replace what the new site has written since the last delivery; it is kept',
      })
      .option('despite-requirements', {
        type: 'boolean',
        default: false,
        describe: 'Deliver although the new end lacks what the site needs',
      })
      .option('read-back', {
        type: 'string',
        choices: ['all', 'sample'],
        default: 'all',
        describe: 'How many files to read back and compare if the new host cannot compute checksums',
      })
      .option('only', {
        type: 'string',
        choices: ['configuration'],
        describe: 'Update only the configuration and the server’s files; safe to repeat',
      })
      .option('dry-run', {
        type: 'boolean',
        default: false,
        describe:
          'Count what would be delivered, show the changes to the configuration without secrets; write nothing',
      }),
  run: async argv => {
    const [
      { deliver: step, tryDelivery },
      { setUpInPlace, differences },
      { inTheWay },
      { showDeliver, showDeliveryTrial, showDifferences, showSetUp },
      { runAndShow, withMove },
      { askFirst },
      { ExitCode },
    ] = await Promise.all([
      import('../../steps/deliver.js'),
      import('../../steps/deliver/site/apply.js'),
      import('../../steps/deliver/in-the-way.js'),
      import('../show/deliver.js'),
      import('../program/with-move.js'),
      import('../terminal/ask.js'),
      import('../../core/errors.js'),
    ]);
    const only = argv.only === 'configuration';
    if (argv.dryRun) {
      return withMove({ ...argv, looksOnly: true }, async (run, terminal) => {
        if (only) {
          const found = await differences(run, only);
          terminal.result(found, () => showDifferences(found, terminal.colors));
          return;
        }
        const trial = await tryDelivery(run, { ...argv, sample: argv.readBack === 'sample' });
        terminal.result(trial, () => showDeliveryTrial(trial, terminal.colors));
        if (trial.findings.some(({ level }) => level === 'stop')) process.exitCode = ExitCode.stopped;
      });
    }
    if (only) {
      return runAndShow(
        argv,
        async run => {
          await askFirst(`Write to the configuration at ${run.move.newFiles} (what it was is kept)?`, argv);
          return setUpInPlace(run);
        },
        showSetUp,
      );
    }
    await runAndShow(
      argv,
      async run => {
        if (argv.crate) await unpackFirst(run, argv);
        const replaced = await inTheWay(run.move);
        if (replaced.length > 0)
          await askFirst(`Replace what is at the new end (${replaced.join(', ')}; it is kept)?`, argv);
        keepHeapSmall();
        return step(run, { ...argv, sample: argv.readBack === 'sample' });
      },
      showDeliver,
      move => [move.newFiles],
    );
  },
});

/** Puts a crate from elsewhere in place of the one in the move folder, and changes the addresses in it. */
async function unpackFirst(run: StepRun, argv: Common & Options): Promise<void> {
  const [{ openCrate }, { rewrite }, { askFirst, passphraseFor }] = await Promise.all([
    import('../../steps/store/named-crate.js'),
    import('../../steps/rewrite.js'),
    import('../terminal/ask.js'),
  ]);
  const { crate, sheet } = run.move;
  if ((await crate.identity()) !== undefined)
    await askFirst(`Put what comes in place of the crate ${crate.folder}?`, argv);
  const passphrase = async () => sheet.crate?.passphrase ?? passphraseFor('the crate');
  const { note, taken, from } = await openCrate(run, argv.crate!, passphrase);
  run.events({
    type: 'message',
    text: `The crate of ${from.address}, taken ${taken.slice(0, 10)}, is whole.`,
  });
  if (note !== undefined) run.events({ type: 'message', text: `Its note: ${showable(note)}` });
  await rewrite(run);
}

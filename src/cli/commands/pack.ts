import { parseSize } from '../../core/text/sizes.js';
import { command } from '../program/command.js';
import { againOption, byContentOption, gentleOption, oneByOneOption } from '../program/shared-options.js';
import { keepHeapSmall } from '../program/small-heap.js';

interface Options {
  readonly again: boolean;
  readonly byContent: boolean;
  readonly gentle: boolean;
  readonly as: 'folder' | 'tar';
  readonly partSize: string | undefined;
  readonly note: string | undefined;
  readonly passphrase: boolean;
  readonly verify: boolean;
}

export const pack = command<Options>({
  command: 'pack',
  describe: 'Take files and database of the old site into the crate',
  examples: [
    ['pack', 'take what the sheet names; what is taken already and unchanged is kept'],
    [
      'pack --as tar --part-size 200MB',
      'also write the crate as one tar in parts, to be transferred by hand',
    ],
    ['pack --verify', 'read the crate again and compare all of it with its checksums'],
  ],
  options: argv =>
    oneByOneOption(gentleOption(byContentOption(againOption(argv))))
      .option('as', {
        type: 'string',
        choices: ['folder', 'tar'],
        default: 'folder',
        describe: 'Leave the crate as a folder, or also write it as one POSIX tar',
      })
      .option('part-size', {
        type: 'string',
        describe: 'With --as tar: split it into numbered parts of this size, such as 200MB',
      })
      .option('note', { type: 'string', describe: 'A note for whoever opens the crate' })
      .option('passphrase', {
        type: 'boolean',
        default: false,
        describe:
          'With --as tar: ask for a passphrase and encrypt with it (age v1); crate.passphrase does the same',
      })
      .option('verify', {
        type: 'boolean',
        default: false,
        describe: 'Only read the crate again and compare it with its checksums',
      }),
  run: async argv => {
    const { showOutcome, withMove } = await import('../program/with-move.js');
    if (argv.verify) {
      const [{ verifyCrate }, { showVerified }] = await Promise.all([
        import('../../steps/pack/archive.js'),
        import('../show/steps.js'),
      ]);
      return withMove({ ...argv, looksOnly: true }, async (run, terminal) => {
        const verified = await verifyCrate(run);
        terminal.result(verified, () => showVerified(verified, terminal.colors));
      });
    }
    const partBytes = argv.partSize === undefined ? undefined : parseSize(argv.partSize, '--part-size');
    await withMove(
      argv,
      async (run, terminal) => {
        // The old host answers while the program reads what it needs.
        const [{ pack: step }, { showPack }] = await Promise.all([
          import('../../steps/pack.js'),
          import('../show/steps.js'),
        ]);
        keepHeapSmall();
        const outcome = await step(run, { ...argv, latest: true });
        if (argv.as !== 'tar' || outcome.state === 'stopped')
          return showOutcome({ ...outcome, archive: undefined }, showPack, terminal);
        const [{ archiveCrate }, { newPassphrase }] = await Promise.all([
          import('../../steps/pack/archive.js'),
          import('../terminal/ask.js'),
        ]);
        const passphrase = argv.passphrase ? await newPassphrase() : run.move.sheet.crate?.passphrase;
        const archive = await archiveCrate(run, passphrase, partBytes);
        showOutcome({ ...outcome, archive }, showPack, terminal);
      },
      move => [move.oldFiles],
    );
  },
});

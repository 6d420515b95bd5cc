import { parseSize } from '../../core/text/sizes.js';
import type { StepRun } from '../../steps/move/step.js';
import type { StoreResult } from '../../steps/store/store-crate.js';
import { command } from '../program/command.js';
import { againOption, byContentOption, gentleOption, oneByOneOption } from '../program/shared-options.js';
import { keepHeapSmall } from '../program/small-heap.js';
import type { Terminal } from '../terminal/terminal.js';

interface Options {
  readonly again: boolean;
  readonly byContent: boolean;
  readonly gentle: boolean;
  readonly as: 'folder' | 'tar';
  readonly partSize: string | undefined;
  readonly note: string | undefined;
  readonly passphrase: boolean;
  readonly verify: boolean;
  readonly store: boolean;
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
    ['pack --store', 'also seal the crate and store it at crate.store, offsite'],
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
      .option('store', {
        type: 'boolean',
        default: false,
        describe: 'Also seal the crate with its passphrase and store it at crate.store; resumes',
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
        if (argv.store && !argv.again && (await resumesStoring(run, terminal))) return;
        const outcome = await step(run, { ...argv, latest: true });
        if (outcome.state === 'stopped' || (argv.as !== 'tar' && !argv.store))
          return showOutcome(outcome, showPack, terminal);
        const [{ archiveCrate }, { newPassphrase }] = await Promise.all([
          import('../../steps/pack/archive.js'),
          import('../terminal/ask.js'),
        ]);
        const passphrase = argv.passphrase ? await newPassphrase() : run.move.sheet.crate?.passphrase;
        const archive = argv.as === 'tar' ? await archiveCrate(run, passphrase, partBytes) : undefined;
        const stored = argv.store ? await storeIt(run, passphrase ?? (await newPassphrase())) : undefined;
        showOutcome({ ...outcome, archive, stored }, showPack, terminal);
      },
      move => [move.oldFiles],
    );
  },
});

/** Resumes what an interrupted run has begun to store: packed again, it would be another crate. */
async function resumesStoring(run: StepRun, terminal: Terminal): Promise<boolean> {
  const { isBeingStored } = await import('../../steps/store/store-crate.js');
  if (!(await isBeingStored(run.move))) return false;
  terminal.message(
    'Storing the crate that is here, where an interrupted run ended; "pack --store --again" takes it anew.',
  );
  const [{ newPassphrase }, { showStored }] = await Promise.all([
    import('../terminal/ask.js'),
    import('../stores/show.js'),
  ]);
  const stored = await storeIt(run, run.move.sheet.crate?.passphrase ?? (await newPassphrase()));
  terminal.result({ stored }, () => showStored(stored, terminal.colors));
  return true;
}

async function storeIt(run: StepRun, passphrase: string): Promise<StoreResult> {
  const [{ storeCrate }, { storeOf, userOf }] = await Promise.all([
    import('../../steps/store/store-crate.js'),
    import('../../steps/store/stores.js'),
  ]);
  const store = await storeOf(userOf(run.move));
  try {
    return await storeCrate(run, store, passphrase);
  } finally {
    await store.close();
  }
}

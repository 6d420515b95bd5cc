import { command } from '../program/command.js';

interface Options {
  readonly what: 'list' | 'verify' | 'remove';
  readonly name: string | undefined;
  readonly store: string | undefined;
}

export const crates = command<Options>({
  command: 'crates [what] [name]',
  describe: 'List, verify or remove the crates at an offsite store',
  examples: [
    ['crates', 'what is at the store of the sheet: dates, sizes, notes'],
    ['crates --store s3://bucket/prefix', 'the same at another store, also without a sheet'],
    ['crates verify', 'read the newest crate of this move again, and compare all of it with its checksums'],
    ['crates remove saltmarsh-20261201T220000Z', 'remove one, asking first'],
  ],
  options: argv =>
    argv
      .positional('what', {
        type: 'string',
        choices: ['list', 'verify', 'remove'],
        default: 'list',
        describe: 'What to do',
      })
      .positional('name', {
        type: 'string',
        describe: 'The crate, as the list names it; verify takes the newest where none is named',
      })
      .option('store', {
        type: 'string',
        describe:
          'The store: s3://bucket/prefix, sftp://user@host/folder, or a folder (crate.store of the sheet)',
      }),
  run: async argv => {
    const [
      { withStore },
      { listCrates, storedCrate, verifyStored, removeFrom },
      { named, showCrates, showRemoved, showVerifiedStored },
      { askFirst, passphraseFor },
    ] = await Promise.all([
      import('./with-store.js'),
      import('../../steps/store/crates.js'),
      import('./show.js'),
      import('../terminal/ask.js'),
    ]);
    await withStore(argv, async ({ store, terminal, signal, move, passphrase }) => {
      const { colors, events } = terminal;
      if (argv.what === 'list') {
        const all = await listCrates(store, signal);
        return terminal.result({ store: store.text, crates: all }, () => showCrates(store.text, all, colors));
      }
      if (argv.what === 'verify') {
        const found = await storedCrate(store, { name: argv.name, move: move?.sheet.name }, signal);
        const verified = await verifyStored(
          { store, events, signal },
          found,
          async () => passphrase ?? passphraseFor(found.name),
        );
        return terminal.result({ store: store.text, ...verified }, () =>
          showVerifiedStored(store.text, verified, colors),
        );
      }
      const name = named(argv.name);
      await askFirst(`Remove the crate ${name} from ${store.text}, and keep nothing of it?`, argv);
      const removed = await removeFrom(store, name, { signal, move });
      terminal.result({ store: store.text, name, removed }, () =>
        showRemoved(store.text, name, removed, colors),
      );
    });
  },
});

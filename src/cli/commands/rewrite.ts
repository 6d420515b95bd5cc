import { type Common, command, standardStream } from '../command.js';
import { againOption } from '../shared-options.js';

interface Options {
  readonly again: boolean;
  readonly input: string | undefined;
  readonly from: readonly string[];
  readonly to: readonly string[];
  readonly out: string | undefined;
  readonly dryRun: boolean;
  readonly mail: boolean;
  readonly leave: readonly string[];
  readonly prefixFrom: string | undefined;
  readonly prefixTo: string | undefined;
}

export const rewrite = command<Options>({
  command: 'rewrite [input]',
  describe: 'Change addresses in the crate, or in a dump by itself',
  examples: [
    ['rewrite', 'rewrite the crate as the sheet says'],
    [
      'rewrite old.sql.gz --from https://a.example/site --to https://b.example --out new.sql.gz',
      'rewrite one dump',
    ],
    ['rewrite - --from https://a.example --to https://b.example --out - < old.sql > new.sql', 'in a pipe'],
  ],
  options: argv =>
    againOption(argv)
      .positional('input', { type: 'string', describe: 'A dump (plain or gzip), or - for standard input' })
      .option('from', {
        type: 'string',
        array: true,
        default: [],
        describe: 'An old address or server path; may be given again',
      })
      .option('to', { type: 'string', array: true, default: [], describe: 'The new one, for each --from' })
      .option('out', { type: 'string', describe: 'Where to write; .gz packs it, - is standard output' })
      .option('dry-run', { type: 'boolean', default: false, describe: 'Count the same and write nothing' })
      .option('mail', {
        type: 'boolean',
        default: false,
        describe: 'Also change mail addresses at the old host',
      })
      .option('leave', {
        type: 'string',
        array: true,
        default: [],
        describe: 'table.column patterns to leave as they are',
      })
      .option('prefix-from', { type: 'string', describe: 'The old table prefix' })
      .option('prefix-to', { type: 'string', describe: 'The new table prefix' }),
  run: async argv => {
    if (argv.input !== undefined) {
      return rewriteOne({ ...argv, input: dash(argv.input), out: argv.out && dash(argv.out) });
    }
    const [{ rewrite: step }, { showRewriteStep }, { runAndShow }, { UsageError }] = await Promise.all([
      import('../../steps/rewrite.js'),
      import('../show/rewrite.js'),
      import('../with-move.js'),
      import('../../core/errors.js'),
    ]);
    if (argv.from.length + argv.to.length > 0 || argv.out !== undefined || argv.dryRun) {
      throw new UsageError({
        doing: 'Rewriting',
        cause: '--from, --to, --out and --dry-run are for a dump by itself, and none is named',
        remedy: 'Name the dump first: able-porter rewrite old.sql.gz --from … --to … --out …',
      });
    }
    await runAndShow(argv, step, showRewriteStep);
  },
});

const dash = (word: string) => (word === standardStream ? '-' : word);

async function rewriteOne(argv: Common & Options & { readonly input: string }): Promise<void> {
  const [{ rewriteByItself }, { showRewriting }, { Face }, { endSignal }, { askFirst }, { existsSync }] =
    await Promise.all([
      import('../../steps/rewrite-dump.js'),
      import('../show/rewrite.js'),
      import('../face.js'),
      import('../with-move.js'),
      import('../ask.js'),
      import('node:fs'),
    ]);
  const face = await Face.open(argv);
  try {
    const out = argv.out;
    if (out !== undefined && out !== '-' && !argv.dryRun && existsSync(out))
      await askFirst(`Overwrite ${out}?`, argv);
    const outcome = await rewriteByItself(argv, face.events, endSignal());
    if (out === '-') face.tell(showRewriting(outcome, face.colors));
    else face.result(outcome, () => showRewriting(outcome, face.colors));
  } finally {
    face.endBar();
  }
}

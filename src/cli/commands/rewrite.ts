import type { StandaloneOptions } from '../../steps/rewrite/standalone-options.js';
import { command, standardStream } from '../program/command.js';
import { againOption } from '../program/shared-options.js';
import type { Common } from '../terminal/common-options.js';

interface Options extends Omit<StandaloneOptions, 'input' | 'password'> {
  readonly again: boolean;
  readonly input: string | undefined;
  readonly samples: boolean;
}

/** Options that the sheet gives where the crate is rewritten. */
const ownOptions = [
  'from',
  'to',
  'out',
  'mail',
  'bareHosts',
  'mend',
  'openBase64',
  'leave',
  'only',
  'prefixFrom',
  'prefixTo',
  'for',
  'parts',
  'unpackedLimit',
] as const;

export const rewrite = command<Options>({
  command: 'rewrite [input]',
  describe: 'Change addresses in the crate, a dump, a folder or a live database',
  examples: [
    ['rewrite', 'rewrite the crate as the sheet says'],
    ['rewrite --dry-run --where-left', 'count in the crate, and list what would be left'],
    [
      'rewrite old.sql.gz --from https://a.example/site --to https://b.example --out new.sql.gz',
      'rewrite one dump',
    ],
    ['rewrite - --from https://a.example --to https://b.example --out - < old.sql > new.sql', 'in a pipe'],
    ['rewrite ./site --from https://a.example --to https://b.example', 'the text files of a folder'],
    [
      'rewrite mysql://user@127.0.0.1/site --from https://a.example --to https://b.example --dry-run',
      'count in a live database (its password in DATABASE_PASSWORD)',
    ],
  ],
  options: argv =>
    againOption(argv)
      .positional('input', {
        type: 'string',
        describe:
          'A dump (plain, gzip, bzip2 or zip; - for standard input), a folder, or mysql://user@host:port/name',
      })
      .option('from', {
        type: 'string',
        array: true,
        default: [],
        describe: 'An old address or server path; repeatable',
      })
      .option('to', {
        type: 'string',
        array: true,
        default: [],
        describe: 'The new address or path, for each --from',
      })
      .option('out', {
        type: 'string',
        describe: 'Where to write a dump; .gz compresses it, - is standard output',
      })
      .option('dry-run', { type: 'boolean', default: false, describe: 'Count the same and write nothing' })
      .option('mail', {
        type: 'boolean',
        default: false,
        describe: 'Also change mail addresses at the old host',
      })
      .option('bare-hosts', {
        type: 'boolean',
        default: false,
        describe: 'Also change an old host name that stands alone, without // before it',
      })
      .option('mend', {
        type: 'boolean',
        default: false,
        describe: 'Correct the lengths of damaged serialized values where only one correction is possible',
      })
      .option('open-base64', {
        type: 'boolean',
        default: false,
        describe: 'Also change old addresses in Base64',
      })
      .option('leave', {
        type: 'string',
        array: true,
        default: [],
        describe: 'table.column patterns of columns to leave unchanged (for a folder: gitignore patterns)',
      })
      .option('only', {
        type: 'string',
        array: true,
        default: [],
        describe: 'table.column patterns of the only columns to change (for a folder: gitignore patterns)',
      })
      .option('samples', {
        type: 'boolean',
        default: false,
        describe: 'Show changes in each table and column before and after, with the match marked',
      })
      .option('where-left', {
        type: 'boolean',
        default: false,
        describe: 'List every old address that was left, with its row and the reason',
      })
      .option('prefix-from', { type: 'string', describe: 'The old table prefix' })
      .option('prefix-to', { type: 'string', describe: 'The new table prefix' })
      .option('for', {
        type: 'string',
        describe: 'Adapt the dump to a server, such as mariadb-10.6 or mysql-8.0',
      })
      .option('parts', {
        type: 'string',
        describe: 'Write pieces of at most this size (such as 5 MiB) into the folder --out; each loads alone',
      })
      .option('unpacked-limit', {
        type: 'string',
        describe: 'The largest decompressed size; a file made to fill a disk is refused',
      }),
  run: async argv => {
    if (argv.input !== undefined) {
      return rewriteOne({ ...argv, input: dash(argv.input), out: argv.out && dash(argv.out) });
    }
    const [{ rewrite: step }, { showRewriteStep }, { runAndShow }, { UsageError }] = await Promise.all([
      import('../../steps/rewrite.js'),
      import('../show/rewrite.js'),
      import('../program/with-move.js'),
      import('../../core/errors.js'),
    ]);
    const given = ownOptions.filter(name => {
      const value = argv[name];
      return Array.isArray(value) ? value.length > 0 : Boolean(value);
    });
    if (given.length > 0) {
      const dashed = given.map(name => `--${name.replace(/[A-Z]/g, letter => `-${letter.toLowerCase()}`)}`);
      throw new UsageError({
        doing: 'Rewriting the crate',
        cause: `${dashed.join(', ')} ${given.length === 1 ? 'is' : 'are'} for rewriting without a move, and nothing is named`,
        remedy:
          'Name the dump, folder or database first: able-porter rewrite old.sql.gz --from …; for the crate, say it in the sheet',
      });
    }
    if (argv.dryRun) return tryOnCrate(argv);
    if (argv.whereLeft) {
      throw new UsageError({
        doing: 'Rewriting the crate',
        cause: '--where-left reads the crate once more and writes nothing',
        remedy: 'Add --dry-run: able-porter rewrite --dry-run --where-left',
      });
    }
    await runAndShow(argv, step, (outcome, colors) => showRewriteStep(outcome, colors, argv.samples));
  },
});

async function tryOnCrate(argv: Common & Options): Promise<void> {
  const [{ tryRewriting }, { showTrial }, { withMove }] = await Promise.all([
    import('../../steps/rewrite/trial.js'),
    import('../show/rewrite.js'),
    import('../program/with-move.js'),
  ]);
  await withMove({ ...argv, looksOnly: true }, async (run, terminal) => {
    const trial = await tryRewriting(run, argv.whereLeft);
    terminal.result(trial, () => showTrial(trial, terminal.colors, argv.samples));
  });
}

const dash = (word: string) => (word === standardStream ? '-' : word);

async function rewriteOne(argv: Common & Options & { readonly input: string }): Promise<void> {
  const [
    { rewriteStandalone },
    { showRewriting },
    { Terminal },
    { endSignal },
    { askFirst, databasePassword },
    { existsSync },
  ] = await Promise.all([
    import('../../steps/rewrite/standalone.js'),
    import('../show/rewrite.js'),
    import('../terminal/terminal.js'),
    import('../program/with-move.js'),
    import('../terminal/ask.js'),
    import('node:fs'),
  ]);
  const terminal = await Terminal.open(argv);
  try {
    const { out, input } = argv;
    if (out !== undefined && out !== '-' && !argv.dryRun && existsSync(out))
      await askFirst(`Overwrite ${out}?`, argv);
    const password = input.startsWith('mysql:') ? await databasePassword(input) : undefined;
    const ask = {
      inPlace: (what: string) => askFirst(`Rewrite ${what} in place?`, argv),
      keyless: (tables: readonly string[]) =>
        askFirst(`Rewrite tables without a key too (${tables.join(', ')}), row by old value?`, argv),
    };
    const outcome = await rewriteStandalone({ ...argv, password }, ask, terminal.events, endSignal());
    const draw = () => showRewriting(outcome, terminal.colors, argv.samples);
    if (out === '-') terminal.message(draw());
    else terminal.result(outcome, draw);
  } finally {
    terminal.endBar();
  }
}

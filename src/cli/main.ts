#!/usr/bin/env node
import { version } from '../version.js';

// Asked most often by scripts, and needing nothing else.
if (process.argv[2] === '--version' && process.argv.length === 3) {
  process.stdout.write(`${version}\n`);
  process.exit();
}

const [{ default: yargs }, { hideBin }, { commands }, { standardStream }, { showError }, { ExitCode }] =
  await Promise.all([
    import('yargs'),
    import('yargs/helpers'),
    import('./commands.js'),
    import('./program/command.js'),
    import('./program/show-error.js'),
    import('../core/errors.js'),
  ]);

/** What is used of yargs that its types do not describe. */
interface YargsInside {
  getInternalMethods(): { getUsageInstance(): { cacheHelpMessage: () => void } };
}

// yargs takes a lone dash for an empty option; the commands know it as a word of ours.
const all = hideBin(process.argv).map(word => (word === '-' ? standardStream : word));

// What follows `--` is a name for other commands; for a fleet it is for the command of each site.
const end = all[0] === 'fleet' ? all.indexOf('--') : -1;
const words = end < 0 ? all : [...all.slice(0, end), ...all.slice(end + 1).map(word => `--with=${word}`)];

const parser = yargs(words)
  .parserConfiguration({ 'greedy-arrays': false })
  .scriptName('able-porter')
  .usage('$0 <command>\n\nMoves a content-managed site to a new host, a new domain, or both.')
  .version(version)
  .options({
    sheet: { type: 'string', default: './move.yaml', describe: 'The sheet of the move', global: true },
    json: {
      type: 'boolean',
      default: false,
      describe: 'Print the result as one JSON document',
      global: true,
    },
    'json-events': {
      type: 'boolean',
      default: false,
      describe: 'Print what happens as NDJSON while it runs',
      global: true,
    },
    quiet: { type: 'boolean', default: false, describe: 'No progress and no messages', global: true },
    verbose: {
      type: 'boolean',
      default: false,
      describe: 'Show stack traces of errors',
      global: true,
    },
    yes: { type: 'boolean', default: false, describe: 'Answer yes to every question', global: true },
    color: {
      type: 'boolean',
      default: true,
      describe: 'Colours (--no-color and NO_COLOR switch them off)',
      global: true,
    },
  })
  .command(commands)
  .demandCommand(1, 'Name a command. "able-porter --help" lists them.')
  .strict()
  .recommendCommands()
  .wrap(Math.min(100, process.stdout.columns ?? 100))
  .epilogue('Every command has --help with examples. Start with: able-porter demo')
  .fail((message, error) => {
    process.exitCode = showError(error ?? message, process.argv.includes('--verbose'));
    if (!error) process.exit();
  });

// yargs writes the whole help while a command begins, for handlers that might ask for it. None here does.
(parser as unknown as YargsInside).getInternalMethods().getUsageInstance().cacheHelpMessage = () => {};

try {
  await parser.parseAsync();
} catch {
  // fail() above has reported it.
}
// A host that does not answer is waited for no longer.
if (process.exitCode === ExitCode.interrupted) process.exit();

import { command } from '../program/command.js';
import { type FleetOptions, whats } from './arguments.js';

export const fleet = command<FleetOptions>({
  command: 'fleet <what> [action]',
  describe: 'Many moves at once, on one machine or on several',
  examples: [
    [
      'fleet find sftp://root@old.example/ --out sites.csv',
      'list every site there, for the table of a fleet',
    ],
    ['fleet survey', 'look at both ends of every site; the worst comes first'],
    [
      'fleet go --at-once 8',
      'every step of every site; what was interrupted or went wrong is resumed by the next run',
    ],
    ['fleet deliver -- --read-back sample', 'options after -- are those of each site’s command'],
    ['fleet status', 'how far every site is'],
    ['fleet cutover switch --wave 5', 'five sites at a time, each five watched before the next'],
    ['fleet go --queue redis://queue.example', 'the same by all machines on which "fleet work" runs'],
  ],
  options: argv =>
    argv
      .positional('what', {
        choices: whats,
        describe: 'A command for every site; or status, report, find (sites in a place), work (for --queue)',
      })
      .positional('action', {
        type: 'string',
        describe: 'Of redirects and cutover; for find, the place: a folder, or sftp://user@host/',
      })
      .option('fleet', { type: 'string', default: './fleet.yaml', describe: 'The file of the fleet' })
      .option('only', { type: 'string', array: true, nargs: 1, describe: 'Only this site; may be repeated' })
      .option('at-once', { type: 'number', describe: 'So many sites at once (at-once of the fleet)' })
      .option('per-host', { type: 'number', describe: 'At most so many at one host (per-host of the fleet)' })
      .option('again', {
        type: 'boolean',
        default: false,
        describe: 'Also sites on which an earlier run has done it',
      })
      .option('with', {
        type: 'string',
        array: true,
        nargs: 1,
        describe: 'An option for the command of each site (--with=--gentle), the same as after --',
      })
      .option('queue', { type: 'string', describe: 'A Redis server: machines with "fleet work" do it' })
      .option('adopt', {
        type: 'string',
        array: true,
        nargs: 1,
        describe: 'For work: begin anew a site whose machine is gone for good; may be repeated',
      })
      .option('wave', { type: 'number', describe: 'For cutover switch: so many sites at a time (waves.of)' })
      .option('out', { type: 'string', describe: 'For report and find: where to write it' })
      .option('key', { type: 'string', describe: 'For find: the file of a private key' })
      .option('host-key', { type: 'string', describe: 'For find: the fingerprint of the host’s key' })
      .option('depth', { type: 'number', default: 5, describe: 'For find: how many folders deep sites lie' })
      .check(({ atOnce, perHost, wave }) => {
        for (const [name, value] of Object.entries({ 'at-once': atOnce, 'per-host': perHost, wave }))
          if (
            value !== undefined &&
            !(Number.isInteger(value) && (value as number) >= 1 && (value as number) <= 64)
          )
            throw new Error(`--${name} is a number from 1 to 64`);
        return true;
      }),
  run: async argv => {
    switch (argv.what) {
      case 'status':
        return (await import('./status.js')).fleetStatusCommand(argv);
      case 'find':
        return (await import('./find.js')).fleetFindCommand(argv);
      case 'report':
        return (await import('./report.js')).fleetReportCommand(argv);
      case 'work':
        return (await import('./work.js')).fleetWorkCommand(argv);
      default:
        return (await import('./on-sites.js')).onSitesCommand(argv);
    }
  },
});

import type { FleetCount, SiteOutcome, SiteProgress } from '../../core/fleet/outcome.js';
import { showable } from '../../core/text/display.js';
import { counted, moment, seconds } from '../../core/text/numbers.js';
import { sizeText } from '../../core/text/sizes.js';
import { type FleetDemoOutcome, fleetDemoPassed } from '../../steps/demo/fleet.js';
import type { FoundSite } from '../../steps/fleet/find.js';
import type { SiteStatus } from '../../steps/fleet/look.js';
import type { FleetOutcome } from '../../steps/fleet/run.js';
import type { fleetPlan, Wave } from '../../steps/fleet/waves.js';
import type { Colors } from '../show/outcome.js';
import { cut, fit, table } from '../terminal/table.js';

type State = SiteOutcome['state'] | 'running' | 'waiting' | 'done before';

/** The state of a site in a word. */
export function stateText({ state, outcome }: SiteProgress, colors: Colors): string {
  const word: State = state === 'ended' ? outcome!.state : state;
  const paint = {
    done: colors.green,
    'done before': colors.green,
    stopped: colors.red,
    failed: colors.red,
    interrupted: colors.yellow,
    running: colors.cyan,
    waiting: colors.dim,
  };
  return paint[word](word);
}

/** How many sites are how far, in a line. */
export function summary(count: FleetCount, colors: Colors): string {
  const parts = [
    [count.done, 'done', colors.green],
    [count.stopped, 'stopped', colors.red],
    [count.failed, 'failed', colors.red],
    [count.interrupted, 'interrupted', colors.yellow],
    [count.running, 'running', colors.cyan],
    [count.waiting, 'waiting', colors.dim],
  ] as const;
  return parts.flatMap(([n, what, paint]) => (n > 0 ? [paint(`${n} ${what}`)] : [])).join(', ');
}

export function findingsText({ findings }: Pick<SiteOutcome, 'findings'>, colors: Colors): string {
  const { stop, warn, note } = findings;
  return [
    ...(stop > 0 ? [colors.red(`${stop} stop`)] : []),
    ...(warn > 0 ? [colors.yellow(`${warn} warn`)] : []),
    ...(note > 0 ? [colors.cyan(`${note} note`)] : []),
  ].join(' ');
}

export function firstLine(text: string): string {
  return showable(text.split('\n')[0]!);
}

/** What was done on the sites of a fleet: the worst first, with what to do. */
export function showFleet(
  { fleet, command, sites, count, seconds: took }: FleetOutcome,
  colors: Colors,
): string {
  const troubled = sites.filter(({ outcome }) => outcome?.state !== 'done');
  const rows = sites.map(one => [
    cut(one.site, 30),
    stateText(one, colors),
    one.outcome?.step ?? '',
    one.outcome ? seconds(one.outcome.seconds) : '',
    one.outcome ? findingsText(one.outcome, colors) : '',
  ]);
  const whys = troubled.flatMap(({ site, outcome }) =>
    outcome?.why === undefined ? [] : [`  ${colors.bold(site)}`, ...textLines(outcome.why)],
  );
  return [
    `${colors.bold(`${fleet}: ${command}`)}  ${summary(count, colors)}  in ${seconds(took)}`,
    '',
    table(['site', 'state', 'step', 'took', 'findings'], rows, [3]),
    ...(whys.length > 0 ? [colors.bold('What is wrong'), ...whys, ''] : []),
    troubled.length > 0
      ? 'Run it again when that is put right: sites that are done are not touched again.'
      : colors.green(
          sites.length === 1 ? 'The site is done.' : `All ${counted(sites.length, 'site')} are done.`,
        ),
  ].join('\n');
}

function textLines(text: string): string[] {
  return text.split('\n').map(line => `    ${showable(line)}`);
}

export function showFleetStatus(all: readonly SiteStatus[], colors: Colors): string {
  const paint = {
    done: colors.green,
    'not yet': colors.dim,
    begun: colors.yellow,
    stopped: colors.red,
    failed: colors.red,
    unreadable: colors.red,
  };
  const rows = all.map(({ site, state, step, at, life, to, why, findings }) => [
    cut(site, 30),
    paint[state](state),
    step ?? '',
    life,
    at === undefined ? '' : moment(at),
    findingsText({ findings }, colors),
    fit(why === undefined ? to : firstLine(why), 36),
  ]);
  const lives = ['open', 'live', 'closed'].map(
    life => [life, all.filter(one => one.life === life).length] as const,
  );
  return [
    `${counted(all.length, 'site')}: ${lives.flatMap(([life, n]) => (n > 0 ? [`${n} ${life}`] : [])).join(', ')}`,
    '',
    table(['site', 'state', 'step', 'life', 'when', 'findings', ''], rows),
  ].join('\n');
}

export function showFound(sites: readonly FoundSite[], out: string | undefined, colors: Colors): string {
  if (sites.length === 0) return 'No site was recognised there.';
  const rows = sites.map(({ name, address, family, version, folder, files, bytes, database, prefix }) => [
    cut(name, 28),
    family + (version === undefined ? '' : ` ${version}`),
    folder,
    sizeText(bytes),
    String(files),
    database === undefined ? '' : `${database}${prefix ? ` (${prefix})` : ''}`,
    address ?? colors.yellow('not known'),
  ]);
  const unknown = sites.flatMap(({ name, unknown: why }) =>
    why === undefined ? [] : [`  ${name}: ${showable(why)}`],
  );
  return [
    `${counted(sites.length, 'site')} recognised`,
    '',
    table(['site', 'family', 'folder', 'size', 'files', 'database', 'address'], rows, [3, 4]),
    ...(unknown.length > 0 ? [colors.bold('What could not be seen'), ...unknown, ''] : []),
    out === undefined
      ? 'With --out sites.csv this becomes the table of a fleet.'
      : `Wrote ${out}. Fill in where each site goes, and name it as "sites" in fleet.yaml.`,
  ].join('\n');
}

export function showWaves(waves: readonly Wave[], colors: Colors): string {
  const paint = { up: colors.green, 'not up': colors.red, 'not begun': colors.dim };
  const trouble = waves.flatMap(wave =>
    wave.trouble.flatMap(({ site, outcome }) => [
      `  ${colors.bold(site)}`,
      ...textLines(outcome?.why ?? 'it did not end'),
    ]),
  );
  return [
    table(
      ['wave', 'state', 'sites'],
      waves.map(({ number, state, sites }) => [String(number), paint[state](state), sites.join(', ')]),
    ),
    ...(trouble.length > 0
      ? [
          colors.bold('What did not come up'),
          ...trouble,
          '',
          'Later waves were not begun. Put it right and run it again, or take it back: fleet cutover back --only SITE',
        ]
      : [colors.green('Every wave is up.')]),
  ].join('\n');
}

/** One plan over all zones. */
export function showPlan({ zones, without }: Awaited<ReturnType<typeof fleetPlan>>, colors: Colors): string {
  const lines = zones.flatMap(({ zone, sites, changes, conflicts }) => [
    `${colors.bold(zone)}  ${counted(sites.length, 'site')}`,
    ...changes.flatMap(({ before, after, sites: of }) => [
      ...before.map(line => colors.red(`  - ${line}`)),
      ...after.map(line => `${colors.green(`  + ${line}`)}  ${colors.dim(of.join(', '))}`),
    ]),
    ...conflicts.map(({ name, type, sites: of }) =>
      colors.red(`  STOP  ${name} ${type}: ${of.join(' and ')} lead it to different places`),
    ),
    '',
  ]);
  if (zones.length === 0) return 'No site’s plan changes a record at the switch.';
  return [
    colors.bold(`The switch, over ${counted(zones.length, 'zone')}`),
    '',
    ...lines,
    ...(without.length > 0 ? [colors.dim(`Without a change in the DNS: ${without.join(', ')}`)] : []),
  ].join('\n');
}

/** The story of the demo's fleet. */
export function showFleetDemo(outcome: FleetDemoOutcome, served: boolean, colors: Colors): string {
  const { first, second, plan, waves, folder, kept } = outcome;
  const title = (text: string) => `\n${colors.bold(text)}\n`;
  const before = second.sites.filter(({ state }) => state === 'done before').length;
  return [
    colors.bold('Twelve clubs move from one host to another'),
    title('1. Every step of every club, four at a time; the trouble of one stops no other'),
    showFleet(first, colors),
    title('2. Its configuration was put back, and the same command run again'),
    `  ${summary(second.count, colors)} in ${seconds(second.seconds)}: ${counted(before, 'club')} not touched again`,
    title('3. One plan over all zones'),
    showPlan(plan, colors),
    title('4. The switch in waves, each watched until the resolver had followed'),
    showWaves(waves, colors),
    title('What to do next'),
    served
      ? `  In another terminal: cd ${folder}/fleet, then "able-porter fleet status", "fleet check", "fleet cutover back"`
      : `  Try the commands on its hosts: able-porter demo --fleet --keep ${kept ? folder : 'clubs'} --serve`,
    '  Find your own sites: able-porter fleet find sftp://root@old.example/ --out sites.csv',
    '',
    fleetDemoPassed(outcome)
      ? colors.green('Every check passed.')
      : colors.red('Something was not as it should be; see above.'),
  ].join('\n');
}

import { agreementOf } from '../../core/dns/cutover/watch.js';
import { duration } from '../../core/text/duration.js';
import { counted, moment, seconds } from '../../core/text/numbers.js';
import type { PhaseResult } from '../../steps/cutover/deeds.js';
import type { Freeze } from '../../steps/cutover/freeze.js';
import type { NightPart, NightResult } from '../../steps/cutover/night.js';
import type { WatchRound } from '../../steps/cutover/watch.js';
import type { CutoverResult, PhaseChanges } from '../../steps/cutover.js';
import type { StepOutcome } from '../../steps/move/step.js';
import { table } from '../terminal/table.js';
import { type Colors, headline, withFindings } from './outcome.js';

/** A time as the administrator's clock shows it, with UTC beside it. @param at ISO 8601 */
export function clockTime(at: string, timeZone: string): string {
  const day = new Intl.DateTimeFormat('en-GB', {
    weekday: 'short',
    day: '2-digit',
    month: 'short',
    timeZone,
  });
  const clock = (zone: string) =>
    new Intl.DateTimeFormat('en-GB', { hour: '2-digit', minute: '2-digit', timeZone: zone }).format(
      new Date(at),
    );
  const local = `${day.format(new Date(at)).replace(',', '')} ${clock(timeZone)}`;
  return timeZone === 'UTC' ? `${local} UTC` : `${local} (${clock('UTC')} UTC)`;
}

const fates = {
  moves: 'moves to the new host',
  'is created': 'is created',
  'follows another name': 'follows the name that it is an alias of',
  'leads there already': 'leads to the new host already',
  stays: 'stays as it is',
  'is not in a zone that was read': 'is in no zone that was read',
} as const;

const methods = {
  update: 'by a dynamic update',
  'zone file': 'in the zone file',
  'by hand': 'by hand, at your DNS provider',
} as const;

export function showCutover(outcome: StepOutcome<CutoverResult | undefined>, colors: Colors): string {
  const plan = outcome.result;
  if (!plan)
    return withFindings(outcome, [headline(outcome, 'there is nothing to plan yet', colors)], colors);
  const { when, timeZone, isDated } = plan;
  const at = `${clockTime(when, timeZone)}${isDated ? '' : ', since dns.when names no time'}`;
  const lines = [
    outcome.state === 'stopped'
      ? colors.bold(colors.red('The plan has what must be put right first.'))
      : `${colors.bold('The cutover')} at ${at}`,
    '',
    ...plan.zones.map(zone => `  ${zoneText(zone)}`),
    '',
    table(
      ['name', 'now', '', 'then'],
      plan.names.map(({ host, fate, present }) => [
        host,
        present.map(({ type, value }) => `${type} ${value}`).join(', ') || 'nothing',
        present[0] ? `TTL ${present[0].ttl}` : '',
        fates[fate],
      ]),
    ),
    ...plan.changes.flatMap(one => changeLines(one, colors)),
    colors.bold(`The timeline${timeZone === 'UTC' ? '' : ` (${timeZone})`}`),
    ...plan.timeline.flatMap(({ at: time, what, why, command }) => [
      `  ${colors.bold((time === undefined ? 'now' : clockTime(time, timeZone)).padEnd(28))} ${what}`,
      colors.dim(`  ${' '.repeat(28)} ${why}${command === undefined ? '' : `: ${command}`}`),
    ]),
    '',
    `  ${staysText(plan)}`,
    `  The way back: able-porter cutover back takes back exactly these changes. The timeline for your calendar: ${plan.calendar}`,
  ];
  return withFindings(outcome, lines, colors);
}

function zoneText({
  zone,
  source,
  place,
  isWhole,
  records,
  serial,
  servers,
}: CutoverResult['zones'][number]): string {
  const how = { 'zone file': 'read from', transfer: 'transferred from', questions: 'asked of' }[source];
  const part = isWhole
    ? counted(records, 'record')
    : `${counted(records, 'record')} of the names that were asked for`;
  const same = servers.filter(one => one.serial === serial).length;
  const at =
    servers.length > 0
      ? `; ${same} of ${counted(servers.length, 'server')} ${same === 1 ? 'has' : 'have'} it`
      : '; no server was asked';
  return `${zone}: ${how} ${place}, ${part}, serial ${serial ?? 'unknown'}${at}`;
}

const phases = {
  prepare: 'Before (able-porter cutover prepare)',
  switch: 'At the switch (able-porter cutover switch)',
  raise: 'When all is quiet (able-porter cutover raise)',
} as const;

function changeLines({ zone, phase, changes }: PhaseChanges, colors: Colors): string[] {
  const lines = changes.flatMap(({ before, after }) => [
    ...before.map(line => colors.red(`  - ${line}`)),
    ...after.map(line => colors.green(`  + ${line}`)),
  ]);
  return [`${colors.bold(phases[phase])} in ${zone}`, ...lines, ''];
}

function staysText({ stays, method }: CutoverResult): string {
  const all = Object.entries(stays).map(([type, number]) => `${number} ${type}`);
  return `Everything else in the zones stays as it is: ${all.join(', ') || 'nothing'}. The changes are made ${methods[method]}.`;
}

export function showPhase(outcome: StepOutcome<PhaseResult>, colors: Colors): string {
  const { phase, zones, redirects, marker, life } = outcome.result;
  const titles = {
    prepare: 'prepared',
    switch: life === 'live' ? 'switched; the move is live' : 'not switched yet',
    raise: 'the TTLs are as usual',
    back: 'as it was before the cutover',
  };
  const lines = [headline(outcome, titles[phase], colors)];
  for (const { zone, state, place, changes, behind } of zones) {
    const what = {
      changed: `${zone}: ${counted(changes.length, 'record set')} changed at ${place}`,
      'already so': `${zone}: is so already, nothing was changed`,
      'by hand': `${zone}: change these records at your DNS provider`,
    }[state];
    lines.push(
      `  ${what}${behind?.length === 0 && state === 'changed' ? '; all its servers answer with it' : ''}`,
    );
    if (state !== 'by hand') continue;
    for (const { before, after } of changes) {
      lines.push(
        ...before.map(line => colors.red(`  - ${line}`)),
        ...after.map(line => colors.green(`  + ${line}`)),
      );
    }
    lines.push(`  then note it: able-porter cutover ${phase === 'back' ? 'back' : 'switch'} --by-hand`);
  }
  if (zones.length === 0 && outcome.state !== 'stopped') lines.push('  no record had to be changed');
  if (redirects?.changed)
    lines.push(`  redirects ${phase === 'back' ? 'taken out of' : 'put in place in'} ${redirects.file}`);
  if (phase === 'prepare' && marker !== undefined)
    lines.push(`  a marker is at each end, by which the watch sees which host answers: /${marker}`);
  const { certificate } = outcome.result;
  if (certificate) {
    lines.push(
      `  a certificate for ${certificate.hosts.join(', ')}, valid until ${moment(certificate.until)}; for the new host’s panel:`,
      `  ${certificate.chain}`,
      `  ${certificate.key} (keep it secret)`,
    );
  }
  if (phase === 'switch' && outcome.state !== 'stopped' && life === 'live')
    lines.push('  watch until all follow: able-porter cutover watch', '  go back: able-porter cutover back');
  return withFindings(outcome, lines, colors);
}

export function showFreeze(outcome: StepOutcome<Freeze | undefined>, colors: Colors): string {
  const freeze = outcome.result;
  if (!freeze) return withFindings(outcome, [headline(outcome, '', colors)], colors);
  const { until, file, shows, proven } = freeze;
  return withFindings(
    outcome,
    [
      headline(
        outcome,
        `the old site refuses what writes until ${moment(until)}, and opens by itself then`,
        colors,
      ),
      `  in ${file}; visitors see ${shows}`,
      proven
        ? '  tried: a form that is sent is refused'
        : '  it was not tried: the old site cannot be asked from here',
    ].filter(line => shows === 'the site' || !line.startsWith('  tried')),
    colors,
  );
}

export function showThaw(outcome: StepOutcome<{ readonly thawed: boolean }>, colors: Colors): string {
  return headline(
    outcome,
    outcome.result.thawed ? 'the old site takes what is written again' : 'it was not frozen',
    colors,
  );
}

/** One round of the watch, as a table. */
export function showRound(round: WatchRound, old: readonly string[], colors: Colors): string {
  const wanted = (host: string) => round.names.find(one => one.host === host)?.wanted ?? [];
  const rows = round.answers.map(answer => {
    const { kind, who, host, addresses, ttl, trouble } = answer;
    const agreement = agreementOf(answer, wanted(host), old);
    const paint = {
      new: colors.green,
      old: colors.red,
      mixed: colors.yellow,
      elsewhere: colors.yellow,
      none: colors.yellow,
    }[agreement];
    const markers = addresses.flatMap(address => {
      const seen = round.addresses.find(one => one.host === host && one.address === address);
      return seen ? [`${seen.http}, ${seen.https}`] : [];
    });
    const words = {
      new: 'new host',
      old: 'old host',
      mixed: 'both',
      elsewhere: 'elsewhere',
      none: 'no address',
    };
    return [
      kind,
      who,
      host,
      trouble ?? addresses.join(' '),
      ttl === undefined ? '' : `${ttl} s`,
      trouble === undefined ? paint(words[agreement]) : colors.yellow('no answer'),
      [...new Set(markers)].join('; ') || '-',
    ];
  });
  return table(['', 'asked', 'name', 'address', 'kept for', 'leads to', 'marker (http, https)'], rows, [4]);
}

export function showWatch(old: readonly string[]) {
  return (outcome: StepOutcome<WatchRound>, colors: Colors): string => {
    const { agreed, of, longest } = outcome.result;
    const all = outcome.state !== 'stopped';
    const text = all
      ? `all ${counted(of, 'answer')} lead to the new host`
      : `${agreed} of ${counted(of, 'answer')} lead to the new host; the longest of the others is kept for ${duration(longest)}`;
    return withFindings(
      outcome,
      [
        all ? headline(outcome, text, colors) : colors.bold(colors.yellow(`Not all have followed: ${text}`)),
        '',
        showRound(outcome.result, old, colors),
      ],
      colors,
    );
  };
}

const nightWords: Readonly<Record<NightPart['what'], string>> = {
  freeze: 'the old site is closed for what writes',
  pack: 'the last changes are in the crate',
  rewrite: 'addresses are rewritten',
  deliver: 'the new site has them',
  check: 'both sites are the same',
  switch: 'the DNS is switched',
  watch: 'all follow',
  thaw: 'the old site is open again',
};

export function nightLine({ what, state, seconds: taken }: NightPart): string {
  return state === 'stopped'
    ? `${what}: stopped`
    : `${what}: ${nightWords[what]} (${state === 'done' ? seconds(taken) : state})`;
}

export function showNight(outcome: StepOutcome<NightResult>, colors: Colors): string {
  const { parts, frozenSeconds, life } = outcome.result;
  const end = life === 'live' ? 'the move is live' : 'the move is as it was: visitors use the old site';
  return withFindings(
    outcome,
    [
      outcome.state === 'stopped'
        ? colors.bold(colors.red(`Stopped: ${end}`))
        : headline(outcome, end, colors),
      ...parts.map(part => `  ${part.state === 'stopped' ? colors.red(nightLine(part)) : nightLine(part)}`),
      `  nobody could write to the old site for ${seconds(frozenSeconds)}`,
    ],
    colors,
  );
}

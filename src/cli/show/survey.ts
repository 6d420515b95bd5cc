import type { Estimate } from '../../core/estimate.js';
import type { Finding } from '../../core/findings/findings.js';
import type { Requirement } from '../../core/site/survey/requirements.js';
import { count, counted, seconds } from '../../core/text/numbers.js';
import { sizeText as bytes } from '../../core/text/sizes.js';
import type { StepOutcome } from '../../steps/move/step.js';
import type { NewEnd, OldEnd, SurveyResult, WebSurvey } from '../../steps/survey.js';
import { fit, table } from '../terminal/table.js';
import { showFindings, type Terminal } from '../terminal/terminal.js';
import { showDump, showFacts, showFiles } from './survey-details.js';

type Colors = Terminal['colors'];

/**
 * The survey: whether one may continue and the gravest finding, then what was seen, the requirements as yes and no, both
 * ends beside each other, and every finding.
 */
export function showSurvey({ result, findings }: StepOutcome<SurveyResult>, colors: Colors): string {
  const { old, new: next, requirements, estimate } = result;
  const parts = [verdict(findings, colors)];
  if (old) parts.push(showFacts(old, colors), showFiles(old, colors), showDump(old, colors));
  if (requirements.length > 0) parts.push(showRequirements(requirements, colors));
  if (estimate) parts.push(showEstimate(estimate, colors));
  parts.push(showEnds(old, next, colors), showFindings(findings, colors));
  if (findings.length > 0) parts.push(verdict(findings, colors));
  return parts.filter(part => part !== '').join('\n');
}

/** One line that says whether one may continue, and one that says what weighs most. */
function verdict(findings: readonly Finding[], colors: Colors): string {
  const of = (level: Finding['level']) => findings.filter(one => one.level === level).length;
  const [stops, warns] = [of('stop'), of('warn')];
  const worst = findings[0];
  const what = worst && worst.level !== 'note' ? `  ${fit(worst.what, 120)}\n` : '';
  if (stops > 0)
    return `${colors.bold(colors.red(`Stop here: ${counted(stops, 'finding stops', 'findings stop')} the move.`))}\n${what}`;
  return warns > 0
    ? `${colors.bold(colors.yellow(`You can continue; look at ${counted(warns, 'warning')} first.`))}\n${what}`
    : `${colors.bold(colors.green('You can continue.'))}\n`;
}

function showRequirements(requirements: readonly Requirement[], colors: Colors): string {
  const marks = {
    yes: colors.green('yes'),
    no: colors.bold(colors.red('NO')),
    unknown: colors.dim('not tested'),
  };
  const shown = requirements.map(({ what, need, found, met }) => [
    marks[met],
    what,
    fit(need, 52),
    fit(found, 44),
  ]);
  return table(['there', 'what the site needs', 'how much', 'found at the new end'], shown);
}

function showEstimate({ pack, rewrite, deliver, check, maintenance }: Estimate, colors: Colors): string {
  const about = (n: number | undefined) => (n === undefined ? '–' : n < 1 ? 'under 1 s' : seconds(n));
  const parts = [
    `pack ${about(pack)}`,
    `rewrite ${about(rewrite)}`,
    `deliver ${about(deliver)}`,
    `check ${about(check)}`,
  ];
  return `  ${colors.bold('About how long')}: ${parts.join(', ')}\n  ${colors.dim(`Visitors would see maintenance for ${about(maintenance)} at the last pass, and for as long as the dump loads`)}\n`;
}

/** Old against new, with what differs marked. */
function showEnds(old: OldEnd | undefined, next: NewEnd | undefined, colors: Colors): string {
  const fact = (name: string) => old?.facts.find(one => one.fact === name)?.value;
  const kind = old && [old.family, old.version].filter(Boolean).join(' ');
  const prefix = fact('prefix');
  const name = fact('name');
  const configured = name && `${name} as ${fact('user') ?? '?'} at ${fact('host') ?? '?'}`;
  const live = (old?.listed.length ?? 0) > 0;
  const rows: [string, string | undefined, string | undefined][] = [
    ['address', old?.address, next?.address],
    ['answers', answers(old?.web), next?.place?.delivered ? answers(next.web) : server(next?.web)],
    ['in front', between(old?.web), between(next?.web)],
    [
      'certificate until',
      old?.web.certificate?.until.slice(0, 10),
      next?.web.certificate?.until.slice(0, 10),
    ],
    ['IP addresses', addresses(old), addresses(next)],
    ['kind of site', kind, next?.place?.delivered ? kind : undefined],
    [
      'language',
      old?.web.front?.poweredBy?.replace(/^PHP\//, 'PHP '),
      next?.language && `PHP ${next.language.version}`,
    ],
    ['PHP limits', undefined, next?.language && limits(next.language)],
    ['database server', old?.dump?.server, next?.database?.version],
    ['character set', fact('charset') ?? old?.dump?.charsets.join(', '), next?.database?.charset],
    ['table prefix', prefix, next && (next.prefix ?? prefix)],
    ['database', live ? old?.dump?.file : configured, next?.databaseNamed],
    ['dump', live ? undefined : old?.dump?.file, next?.dump],
    ['files', old?.files?.place, next?.place?.path],
    [
      '',
      old?.files && `${count(old.files.files)} (${bytes(old.files.bytes)})`,
      next?.place && standing(next.place),
    ],
    ['login lands in', old?.landing, next?.landing],
  ];
  const asked = rows.filter(([, a, b]) => a !== undefined || b !== undefined);
  const ends = asked.map(([what, a, b]) => {
    const differs = a !== undefined && b !== undefined && a !== b && what !== '';
    return [
      what,
      a === undefined ? colors.dim('–') : fit(a, 56),
      b === undefined ? colors.dim('–') : differs ? colors.yellow(fit(b, 56)) : fit(b, 56),
      differs ? colors.yellow('≠') : a !== undefined && a === b ? colors.green('=') : '',
    ];
  });
  return table(['', 'old', 'new', ''], ends);
}

function answers(web: WebSurvey | undefined): string | undefined {
  if (web?.home === undefined) return undefined;
  const login = web.login === undefined ? '' : `, login page ${web.login}`;
  return `${server(web)} with ${web.home}${login}`;
}

/** The web server's name and where it is. */
function server(web: WebSurvey | undefined): string | undefined {
  if (web?.home === undefined) return undefined;
  return `${web.front?.server ?? 'a web server'} at ${web.from ?? '?'}`;
}

/** What shows itself between visitors and the server. */
function between(web: WebSurvey | undefined): string | undefined {
  const seen = web?.front?.between ?? [];
  return seen.length > 0 ? seen.join('; ') : undefined;
}

function addresses(end: OldEnd | NewEnd | undefined): string | undefined {
  const records = (end?.dns ?? []).filter(({ type }) => type === 'A' || type === 'AAAA');
  if (records.length === 0) return undefined;
  return records.map(({ value, ttl }) => `${value} (TTL ${ttl})`).join(', ');
}

function limits({ memory, upload, time }: NonNullable<NewEnd['language']>): string {
  const size = (n: number | undefined) => (n === undefined ? 'any' : bytes(n));
  return `memory ${size(memory)}, upload ${size(upload)}, time ${time === 0 ? 'any' : `${time} s`}`;
}

function standing({ standing: there, delivered, runsCommands }: NonNullable<NewEnd['place']>): string {
  const what = delivered
    ? 'delivered by this move'
    : there === 0
      ? 'an empty place'
      : counted(there, 'file or folder is there', 'files and folders are there');
  return `${what}; ${runsCommands ? 'runs commands' : 'runs no commands'}`;
}

/** The findings of a survey that are at least so grave, and nothing else. */
export function showOnly(
  level: 'stop' | 'warn',
): (outcome: StepOutcome<SurveyResult>, colors: Colors) => string {
  return ({ findings }, colors) =>
    showFindings(
      findings.filter(one => one.level === 'stop' || one.level === level),
      colors,
    ) || (level === 'stop' ? 'Nothing stops the move.' : 'Nothing stops or troubles the move.');
}

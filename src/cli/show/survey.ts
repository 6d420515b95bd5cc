import type { StepOutcome } from '../../steps/run.js';
import type { SurveyResult } from '../../steps/survey.js';
import { type Face, showFindings } from '../face.js';
import { bytes, count, counted } from './numbers.js';
import { cut, table } from './table.js';

/** The survey at a glance: whether one may go on, the gravest finding first, then both ends beside each other. */
export function showSurvey({ result, findings }: StepOutcome<SurveyResult>, colors: Face['colors']): string {
  const { old, new: next } = result;
  const stops = findings.filter(({ level }) => level === 'stop').length;
  const warns = findings.filter(({ level }) => level === 'warn').length;
  const verdict =
    stops > 0
      ? colors.bold(colors.red(`Do not go on: ${counted(stops, 'thing stops', 'things stop')} the move.`))
      : warns > 0
        ? colors.bold(colors.yellow(`You may go on; look at ${counted(warns, 'warning')} first.`))
        : colors.bold(colors.green('You may go on.'));
  const none = colors.dim('–');
  const rows: string[][] = [
    ['address', old.address, next.address],
    [
      'kind of site',
      old.family + (old.recognisedBy.length > 0 ? ` (by ${old.recognisedBy.join(', ')})` : ''),
      old.family,
    ],
    ['configuration', old.configuration ?? none, old.configuration ?? none],
    ['character set', old.database.charset ?? none, old.database.charset ?? none],
    ['table prefix', old.database.prefix ?? none, next.prefix ?? old.database.prefix ?? none],
    ['database', databaseOf(old.database) || none, next.dump ?? none],
    [
      'files',
      old.files ? `${count(old.files.files)} (${bytes(old.files.bytes)})` : none,
      next.files ? standingText(next) : none,
    ],
  ];
  const parts = [verdict, '', showFindings(findings, colors), table(['', 'old', 'new'], rows)];
  if (old.files && old.files.leftOut.files > 0) {
    parts.push(
      `  Left out as the sheet says: ${counted(old.files.leftOut.files, 'file')} (${bytes(old.files.leftOut.bytes)})\n`,
    );
  }
  if (old.files) parts.push(showFiles(old.files));
  if (old.dump) parts.push(showDump(old.dump, colors));
  return parts.join('\n');
}

/** The largest folders and files beside each other. */
function showFiles({ largest, largestFolders }: NonNullable<SurveyResult['old']['files']>): string {
  const rows = largestFolders.slice(0, 5).map((folder, i) => {
    const file = largest[i];
    return [
      cut(folder.path, 40),
      bytes(folder.bytes),
      file ? cut(file.path, 60) : '',
      file ? bytes(file.bytes) : '',
    ];
  });
  return table(['largest folders', 'size', 'largest files', 'size'], rows, [1, 3]);
}

function standingText({ standing, delivered }: SurveyResult['new']): string {
  if (delivered) return 'delivered by this move';
  return standing === 0 ? 'an empty place' : counted(standing, 'thing stands there', 'things stand there');
}

/** The findings of a survey that are at least so grave, and nothing else. */
export function showOnly(
  level: 'stop' | 'warn',
): (outcome: StepOutcome<SurveyResult>, colors: Face['colors']) => string {
  return ({ findings }, colors) =>
    showFindings(
      findings.filter(one => one.level === 'stop' || one.level === level),
      colors,
    ) || (level === 'stop' ? 'Nothing stops the move.' : 'Nothing stops or troubles the move.');
}

function databaseOf({ name, user, host }: SurveyResult['old']['database']): string {
  return name === undefined ? '' : `${name} as ${user ?? '?'} at ${host ?? '?'}`;
}

function showDump(dump: NonNullable<SurveyResult['old']['dump']>, colors: Face['colors']): string {
  const rows = dump.tables.reduce((sum, one) => sum + one.rows, 0);
  const largest = [...dump.tables].sort((a, b) => b.bytes - a.bytes).slice(0, 8);
  const hosts = dump.hosts.slice(0, 10);
  return [
    colors.bold(`The dump: ${counted(dump.tables.length, 'table')}, ${counted(rows, 'row')}`),
    table(
      ['largest tables', 'rows', 'size'],
      largest.map(one => [cut(one.name, 40), count(one.rows), bytes(one.bytes)]),
      [1, 2],
    ),
    colors.bold(`Hosts named in the data: ${dump.hosts.length}`),
    table(
      ['host', 'times', 'written as', 'first seen in'],
      hosts.map(one => [
        cut(one.host, 40),
        count(one.count),
        cut(formsOf(one.forms), 44),
        cut(one.place, 34),
      ]),
      [1],
    ),
  ].join('\n');
}

function formsOf(forms: Readonly<Record<string, number>>): string {
  return Object.entries(forms)
    .sort(([, a], [, b]) => b - a)
    .map(([form, n]) => `${form} ${count(n)}`)
    .join(', ');
}

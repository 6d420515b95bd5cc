import { agreeing, count, counted } from '../../core/text/numbers.js';
import { sizeText as bytes } from '../../core/text/sizes.js';
import type { OldEnd } from '../../steps/survey.js';
import { fit, table } from '../terminal/table.js';
import type { Terminal } from '../terminal/terminal.js';

type Colors = Terminal['colors'];

/** What the old site is, by its files and its configuration. */
export function showFacts(old: OldEnd, colors: Colors): string {
  const { family, version, recognisedBy } = old;
  const by = recognisedBy.length > 0 ? ` (by ${recognisedBy.join(', ')})` : '';
  const parts = [
    `${colors.bold(`The old site: ${[family, version].filter(Boolean).join(' ')}`)}${colors.dim(by)}`,
    ...configurationTable(old, colors),
    ...databasesTable(old, colors),
    ...listedTable(old, colors),
    ...dnsTable(old),
  ];
  return `${parts.join('\n\n').replace('\n\n', '\n')}\n`;
}

function configurationTable({ facts }: OldEnd, colors: Colors): string[] {
  const shown = facts.filter(({ value }) => value !== '(a secret, not shown)');
  const hidden = facts.length - shown.length;
  const parts: string[] = [];
  if (shown.length > 0) {
    parts.push(
      table(
        ['configuration says', '', 'where'],
        shown.map(({ fact, value, place }) => [
          labels[fact] ?? fact,
          value === undefined ? colors.dim('computed when the site runs') : shownValue(fact, value),
          colors.dim(place),
        ]),
      ).trimEnd(),
    );
  }
  if (hidden > 0)
    parts.push(
      colors.dim(`  and ${counted(hidden, 'secret')} that ${agreeing(hidden, 'is', 'are')} not shown`),
    );
  return parts;
}

function databasesTable({ databases }: OldEnd, colors: Colors): string[] {
  if (databases.length < 2) return [];
  const rows = databases.map(({ name, prefix, host, file, used }) => [
    fit(name, 30),
    prefix ?? '',
    host ?? '',
    file,
    used ? colors.green('the site uses this one') : '',
  ]);
  return [table(['databases named', 'prefix', 'at', 'in', ''], rows).trimEnd()];
}

function listedTable({ listed }: OldEnd, colors: Colors): string[] {
  if (listed.length === 0) return [];
  const rows = listed.map(({ name, tables, size, sites, used }) => [
    fit(name, 30),
    count(tables),
    bytes(size),
    fit(sites.map(({ family: kind, prefix }) => `${kind} (${prefix})`).join(', '), 50),
    used ? colors.green('the site uses this one') : '',
  ]);
  const head = ['databases at the server', 'tables', 'size', 'sites in it (prefix)', ''];
  return [table(head, rows, [1, 2]).trimEnd()];
}

function dnsTable({ dns }: OldEnd): string[] {
  if (dns.length === 0) return [];
  const rows = dns.map(({ type, ttl, value, name }) => [
    `${fit(name, 40)} ${type}`,
    `${ttl} s`,
    fit(value, 70),
  ]);
  return [table(['record', 'TTL', 'value'], rows, [1]).trimEnd()];
}

const labels: Readonly<Record<string, string>> = {
  name: 'database',
  user: 'database user',
  host: 'database host',
  port: 'database port',
  charset: 'character set',
  prefix: 'table prefix',
  siteAddress: 'site address',
  scriptPath: 'script path',
  cookieDomain: 'cookie domain',
  logPath: 'logs',
  temporaryPath: 'temporary files',
  privatePath: 'private files',
  uploadPath: 'uploads',
  cachePath: 'cache',
  networkHost: 'network’s host',
  networkPath: 'network’s path',
  errorDetails: 'error details',
};
const switches = ['debug', 'offline', 'network'];

function shownValue(fact: string, value: string): string {
  if (switches.includes(fact) && ['', '0', '1'].includes(value)) return value === '1' ? 'on' : 'off';
  return fit(value || '(empty)', 70);
}

/** The largest folders and files beside each other, and what would be left out. */
export function showFiles({ files }: OldEnd, colors: Colors): string {
  if (!files) return '';
  const { largest, largestFolders, leftOut } = files;
  const rows = Array.from({ length: Math.max(largest.length, largestFolders.length) }, (_, i) => {
    const [folder, file] = [largestFolders[i], largest[i]];
    return [
      folder ? fit(folder.path, 40) : '',
      folder ? bytes(folder.bytes) : '',
      file ? fit(file.path, 60) : '',
      file ? bytes(file.bytes) : '',
    ];
  });
  const saved =
    leftOut.files > 0
      ? `; the sheet leaves out ${counted(leftOut.files, 'more file')} and saves ${bytes(leftOut.bytes)}`
      : '';
  const { files: n, folders, links } = files;
  const head = `${counted(n, 'file')}, ${counted(folders, 'folder')}, ${counted(links, 'link')}, ${bytes(files.bytes)}${saved}`;
  return `${colors.bold('Files')}: ${head}\n${table(['largest folders', 'size', 'largest files', 'size'], rows, [1, 3])}`;
}

/** The dump's largest tables, and every host that its data names. */
export function showDump({ dump }: OldEnd, colors: Colors): string {
  if (!dump) return '';
  const rows = dump.tables.reduce((sum, one) => sum + one.rows, 0);
  const largest = [...dump.tables].sort((a, b) => b.bytes - a.bytes).slice(0, 8);
  const hosts = dump.hosts.slice(0, 10);
  const from = dump.server === undefined ? '' : ` from ${fit(dump.server, 40)}`;
  return [
    `${colors.bold('Database')}: ${counted(dump.tables.length, 'table')}, ${counted(rows, 'row')}${from}`,
    table(
      ['largest tables', 'rows', 'size'],
      largest.map(one => [fit(one.name, 40), count(one.rows), bytes(one.bytes)]),
      [1, 2],
    ),
    `${colors.bold('Hosts named in the data')}: ${count(dump.hosts.length)}${dump.hosts.length > hosts.length ? `, of which ${hosts.length}` : ''}`,
    table(
      ['host', 'times', 'written as', 'first seen in'],
      hosts.map(one => [
        fit(one.host, 40),
        count(one.count),
        fit(formsOf(one.forms), 44),
        fit(one.place, 34),
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

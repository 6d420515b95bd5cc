import { parse } from 'csv-parse/sync';
import { stringify } from 'csv-stringify/sync';
import type { Address } from '../../address/address.js';
import { type Finding, finding } from '../../findings/findings.js';
import { counted } from '../../text/numbers.js';
import { keyOfPage, type SingleRedirect, targetUrl } from '../singles.js';

/** A line of `redirects.csv`. */
export interface ListLine {
  /** A path below the old address, or a whole URL. */
  readonly from: string;
  /** A path below the new address, or a whole URL; empty while nobody knows, and for what is gone. */
  readonly to: string;
  /** 301, 302 or 410; empty for 301. */
  readonly status: string;
  /** Why it is there. */
  readonly why: string;
  readonly hits: string;
  /** Columns that somebody added. */
  readonly more: Readonly<Record<string, string>>;
}

const listColumns = ['from', 'to', 'status', 'why', 'hits'] as const;

/**
 * Reads `redirects.csv`, as spreadsheets of any language save it: fields apart by comma, semicolon or tab.
 * @throws an Error of the package for a file that is not CSV
 */
export function readList(text: string): ListLine[] {
  const head = text.slice(0, text.search(/\r?\n|$/));
  const delimiter = [',', ';', '\t'].find(sign => head.includes(sign)) ?? ',';
  const rows = parse(text, {
    bom: true,
    delimiter,
    columns: (names: string[]) => names.map(name => name.trim().toLowerCase()),
    relax_column_count: true,
    skip_empty_lines: true,
    trim: true,
  }) as Record<string, string>[];
  return rows.map(({ from = '', to = '', status = '', why = '', hits = '', ...more }) => ({
    from,
    to,
    status,
    why,
    hits,
    more,
  }));
}

/** Writes it. A field that a spreadsheet would take for a formula is none. */
export function writeList(lines: readonly ListLine[]): string {
  const added = [...new Set(lines.flatMap(({ more }) => Object.keys(more)))];
  const rows = lines.map(line => [
    ...listColumns.map(name => line[name]),
    ...added.map(name => line.more[name] ?? ''),
  ]);
  return stringify([[...listColumns, ...added], ...rows], { escape_formulas: true });
}

/** The single redirects of a list. */
export interface ReadSingles {
  readonly singles: readonly SingleRedirect[];
  /** Keys of the lines that have no target yet. */
  readonly open: ReadonlySet<string>;
  readonly findings: readonly Finding[];
}

/** Reads the lines of a list as redirects. The first of several lines for the same page counts. */
export function singlesOf(lines: readonly ListLine[], from: readonly Address[], to: Address): ReadSingles {
  const singles = new Map<string, SingleRedirect>();
  const open = new Set<string>();
  const wrong: string[] = [];
  for (const [i, line] of lines.entries()) {
    const place = `line ${i + 2}`;
    const key = keyOfPage(line.from, from);
    const status = line.status === '' ? 301 : statuses[line.status];
    if (key === undefined || status === undefined) {
      wrong.push(
        `${place}: ${key === undefined ? `"${line.from}" is not below the old address` : `the status ${line.status} is none of 301, 302 and 410`}`,
      );
      continue;
    }
    if (line.to === '' && status !== 410) {
      open.add(key);
      continue;
    }
    const target = status === 410 ? '' : targetUrl(line.to, to);
    if (target === undefined) wrong.push(`${place}: "${line.to}" is neither a path nor a URL`);
    else if (singles.has(key)) wrong.push(`${place}: ${line.from} has a line before it`);
    else singles.set(key, { key, target, status });
  }
  return { singles: [...singles.values()], open, findings: wrongLines(wrong) };
}

const statuses: Readonly<Record<string, SingleRedirect['status']>> = {
  '301': 301,
  '308': 301,
  '302': 302,
  '307': 302,
  '410': 410,
};

function wrongLines(wrong: readonly string[]): Finding[] {
  if (wrong.length === 0) return [];
  return [
    finding({
      level: 'warn',
      code: 'redirect-line-ignored',
      place: 'redirects.csv',
      what: `${counted(wrong.length, 'line')} of redirects.csv cannot be used and ${wrong.length === 1 ? 'is' : 'are'} left out: ${wrong.slice(0, 4).join('; ')}${wrong.length > 4 ? '; …' : ''}`,
      remedy: 'Correct the lines, then run "able-porter redirects" again',
    }),
  ];
}

import type { Address } from '../../core/address/address.js';
import type { KnownPage } from '../../core/redirects/plan/known-pages.js';
import { type ListLine, writeList } from '../../core/redirects/plan/list.js';
import { keyOfPage } from '../../core/redirects/singles.js';
import type { Move } from '../move/open.js';
import { listFile } from './set.js';

/** A page with what the plan found for it. */
export interface PlannedPage extends KnownPage {
  /** What leads it on. */
  readonly by: 'single' | 'rule' | 'same path' | 'earlier redirect' | 'new place' | 'gone' | 'nothing';
  /** Of a rule, its number. */
  readonly rule?: number;
  /** Where it leads; undefined for what is gone, and what is not redirected. */
  readonly target?: string;
  /** What the new site answers there; undefined where it was not asked. */
  readonly status?: number;
  /** What the old site answers; undefined where it was not asked. */
  readonly old?: number;
}

const pagesFile = 'redirects/pages.ndjson';
const ownFile = 'redirects/own-lines.json';

/** Keeps the pages of a plan, for the steps after it. */
export async function keepPages({ folder }: Move, pages: readonly PlannedPage[]): Promise<void> {
  await folder.write(pagesFile, pages.map(page => `${JSON.stringify(page)}\n`).join(''));
}

/** The pages of the last plan; none where there was none. */
export async function plannedPages({ folder }: Move): Promise<PlannedPage[]> {
  return ((await folder.read(pagesFile)) ?? '')
    .split('\n')
    .filter(Boolean)
    .map(line => JSON.parse(line) as PlannedPage);
}

/** The lines of `redirects.csv` that a person wrote or changed, and that the last plan wrote. */
export interface SortedLines {
  readonly persons: readonly ListLine[];
  readonly own: readonly ListLine[];
}

/** Tells lines that somebody edited from those that are as the last plan wrote them. */
export async function sortLines(
  move: Move,
  lines: readonly ListLine[],
  from: readonly Address[],
): Promise<SortedLines> {
  const text = (await move.folder.read(ownFile)) ?? '{}';
  const known = JSON.parse(text) as Record<string, string>;
  const isOwn = (line: ListLine) => {
    const key = keyOfPage(line.from, from);
    return (
      key !== undefined &&
      known[key] === shapeOf(line) &&
      Object.values(line.more).every(value => value === '')
    );
  };
  return { persons: lines.filter(line => !isOwn(line)), own: lines.filter(isOwn) };
}

/** Writes `redirects.csv`: what a person wrote first, as it is, then what the plan adds. */
export async function writeLines(
  move: Move,
  { persons, own }: SortedLines,
  from: readonly Address[],
): Promise<void> {
  const known = Object.fromEntries(own.map(line => [keyOfPage(line.from, from) ?? '', shapeOf(line)]));
  await move.folder.write(ownFile, `${JSON.stringify(known, undefined, 1)}\n`);
  await move.folder.write(listFile, writeList([...persons, ...own]));
}

/** What a person may change of a line. */
function shapeOf({ to, status }: ListLine): string {
  return `${status} ${to}`;
}

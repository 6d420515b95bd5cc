import { bytesOf } from '../../../core/bytes.js';
import { type Finding, finding } from '../../../core/findings/findings.js';
import { holdsBack } from '../../../core/sheet/held-back.js';
import { SiteRows } from '../../../core/site/data/rows-of-dump.js';
import { FigureReader, type FigureRow, type SiteFigures } from '../../../core/site/data/site-figures.js';
import type { Family } from '../../../core/site/families/family.js';
import type { DatabaseConnection } from '../../../ends/database/database-end.js';
import { readDump } from '../../../ends/database/dump/reader.js';
import { type CrateManifest, takenDump } from '../../../ends/move-folder/crate.js';
import type { StepRun } from '../../move/step.js';

/** The figures of the old site, from the dump as it was taken. */
export async function oldFigures(
  { move, signal }: StepRun,
  { tables, from }: CrateManifest,
): Promise<SiteFigures> {
  const reader = new FigureReader(from.family);
  const rows = new SiteRows(move.bench, reader, from.prefix ?? '');
  if (tables.length > 0) await readDump(move.bench, move.crate.at(takenDump), rows, { signal });
  return reader.result();
}

/** The same of the new site, from its database. */
export async function newFigures(
  connection: DatabaseConnection,
  family: Family,
  prefix: string,
): Promise<SiteFigures> {
  const reader = new FigureReader(family.name);
  const columns = await connection.columns();
  for (const [table, wanted] of Object.entries(reader.tables)) {
    const there = columns.get(prefix + table) ?? [];
    const read = there.filter(({ name }) => wanted.includes(name));
    if (read.length === 0) continue;
    await connection.eachRow(prefix + table, read, cells => {
      const row: Record<string, FigureRow[string]> = {};
      for (const [i, { name }] of read.entries()) row[name] = cells[i] ? bytesOf(cells[i]) : null;
      reader.row(table, row);
    });
  }
  return reader.result();
}

/** What the data of both sites says differently, apart from what the sheet holds back. */
export function figureFindings(
  { move }: StepRun,
  place: string,
  old: SiteFigures,
  next: SiteFigures,
): Finding[] {
  const held = holdsBack(move.sheet);
  const findings: Finding[] = [];
  const report = (
    code: 'extensions-differ' | 'theme-differs' | 'front-page-differs' | 'published-differs',
    what: string,
    remedy: string,
  ) => findings.push(finding({ level: 'warn', code, place, what, remedy }));
  const missing = old.extensions.filter(
    name => !next.extensions.includes(name) && !held(name) && !held(name.split('/')[0]!),
  );
  const extra = next.extensions.filter(name => !old.extensions.includes(name));
  const lists = [
    ...(missing.length > 0 ? [`switched off: ${missing.join(', ')}`] : []),
    ...(extra.length > 0 ? [`switched on: ${extra.join(', ')}`] : []),
  ];
  const compare = 'Compare it in the administration of both sites, and switch it back';
  if (lists.length > 0)
    report('extensions-differ', `Extensions of the new site are ${lists.join('; ')}`, compare);
  if (old.theme !== next.theme)
    report(
      'theme-differs',
      `The theme of the new site is ${next.theme ?? 'none'}, that of the old one ${old.theme ?? 'none'}`,
      compare,
    );
  if (old.frontPage !== next.frontPage)
    report(
      'front-page-differs',
      `The front page of the new site is ${next.frontPage ?? 'the list of articles'}, that of the old one ${old.frontPage ?? 'the list of articles'}`,
      'Compare the settings of both sites',
    );
  const kinds = [...new Set([...Object.keys(old.published), ...Object.keys(next.published)])].sort();
  const counts = kinds.flatMap(kind => {
    const [was, is] = [old.published[kind] ?? 0, next.published[kind] ?? 0];
    return was === is ? [] : [`${kind}: ${is} instead of ${was}`];
  });
  if (counts.length > 0)
    report(
      'published-differs',
      `The new site does not publish as much as the old one did when it was packed (${counts.slice(0, 5).join('; ')})`,
      'Deliver again with the last changes, or check who has changed it since',
    );
  return findings;
}

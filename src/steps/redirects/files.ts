import { mkdir, rm, writeFile } from 'node:fs/promises';
import { dirname, join } from 'node:path';
import type { DialectFile, OldPath } from '../../core/redirects/dialects/dialect.js';
import { type DialectName, dialects, usualDialect } from '../../core/redirects/dialects/dialects.js';
import type { RedirectSet } from '../../core/redirects/redirect-set.js';
import { whileDoing } from '../../ends/system-errors.js';
import type { Move } from '../move/open.js';
import { plannedPages } from './plan-lines.js';
import { redirectsOf } from './set.js';

/** The redirects as they are written for one kind of web server. */
export interface WrittenDialect {
  readonly server: DialectName;
  readonly title: string;
  /** The file that a person looks at. */
  readonly file: string;
  readonly where: string;
  /** What is in it, as far as a person reads it. */
  readonly rules: string;
}

const mostShown = 20_000;

/** Writes the redirects of a set for every kind of web server, the one that the sheet names first. */
export async function writeDialects(
  move: Move,
  set: RedirectSet,
  pages: readonly OldPath[],
): Promise<WrittenDialect[]> {
  const wanted = move.sheet.redirects.server ?? usualDialect;
  const written: WrittenDialect[] = [];
  for (const dialect of dialects) {
    const folder = move.folder.at('redirects', dialect.folder);
    await whileDoing(`Writing ${folder}`, () => rm(folder, { recursive: true, force: true }));
    if ('onlyAsked' in dialect && dialect.name !== wanted) continue;
    const files = dialect.files(set, pages);
    await whileDoing(`Writing ${folder}`, () => writeAll(folder, files));
    written.push({
      server: dialect.name,
      title: dialect.title,
      file: join(folder, files[0]?.path ?? ''),
      where: dialect.where(set.from[0], set),
      rules: files[0]?.text.slice(0, mostShown) ?? '',
    });
  }
  return written.sort((a, b) => Number(b.server === wanted) - Number(a.server === wanted));
}

/** Writes them as permanent ones, after they have been temporary. */
export async function writeFinalRedirects(move: Move): Promise<void> {
  const pages = (await plannedPages(move)).map(({ page }) => page);
  if (pages.length > 0) await writeDialects(move, (await redirectsOf(move, true)).set, pages);
}

async function writeAll(root: string, files: readonly DialectFile[]): Promise<void> {
  await mkdir(root, { recursive: true });
  const made = new Set<string>();
  for (const { path, text } of files) {
    const file = join(root, path);
    const folder = dirname(file);
    if (!made.has(folder)) await mkdir(folder, { recursive: true });
    made.add(folder);
    await writeFile(file, text, 'latin1');
  }
}

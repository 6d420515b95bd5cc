import { createHash } from 'node:crypto';
import { readFile } from 'node:fs/promises';
import { bytesOfText } from '../../core/bytes.js';
import { UsageError } from '../../core/errors.js';
import { type Finding, finding } from '../../core/findings/findings.js';
import { redirectBlock } from '../../core/redirects/block.js';
import { apacheTables } from '../../core/redirects/dialects/apache.js';
import { dialects, usualDialect } from '../../core/redirects/dialects/dialects.js';
import type { RedirectSet } from '../../core/redirects/redirect-set.js';
import type { FilesEnd } from '../../ends/files/files-end.js';
import type { FilesPlace } from '../../ends/files/place.js';
import type { Move } from '../move/open.js';
import { askableSiteOf } from '../move/sites.js';
import { noteDeed, type StepRun } from '../move/step.js';
import { contentOf, replaceIf } from '../transfer/edit-file.js';
import { plannedPages } from './plan-lines.js';
import { redirectsOf, staysThere } from './set.js';

/** Where redirects were put, or taken from. */
export interface Placed {
  readonly end: 'old' | 'new';
  readonly server: string;
  /** The file that has them; undefined where a person puts it in place. */
  readonly file: string | undefined;
  /** For a person: what to put where. */
  readonly where: string;
  /** Where what was in the file is kept; undefined where nothing was. */
  readonly kept: string | undefined;
  /** How many files of tables are beside it. */
  readonly tables: number;
  /** Whether anything was changed. */
  readonly changed: boolean;
}

const markers = { apache: '.htaccess', php: 'index.php' } as const;
const frontMark = 'Able Porter: redirects of the move';

function endOf(move: Move): { end: 'old' | 'new'; place: FilesPlace } {
  const end = staysThere(move) ? 'new' : 'old';
  const place = end === 'old' ? move.oldPlace : move.newFiles;
  if (place) return { end, place };
  throw new UsageError({
    doing: `Reaching the files of the ${end} site`,
    cause: `the sheet names no ${end}.files`,
    remedy: 'Add them, or put the files of the folder redirects in place by hand',
  });
}

/**
 * Puts the redirects into the `.htaccess` of the old site, before all that is there, or in place of its front file; where the address
 * stays, into those of the new site. What was there is kept in the move folder. If the site fails then, all is as it was before.
 */
export async function putRedirects(
  run: StepRun,
  isFinal = false,
): Promise<{ placed: Placed; findings: Finding[] }> {
  const { move } = run;
  const { set, findings } = await redirectsOf(move, isFinal);
  const server = move.sheet.redirects.server ?? usualDialect;
  const dialect = dialects.find(({ name }) => name === server)!;
  const where = dialect.where(set.from[0], set);
  const by = { server, where, end: staysThere(move) ? ('new' as const) : ('old' as const) };
  if (server !== 'apache' && server !== 'php')
    return {
      placed: { ...by, file: undefined, kept: undefined, tables: 0, changed: false },
      findings: [...findings],
    };
  const { place } = endOf(move);
  const end = place.open();
  const name = bytesOfText(markers[server]);
  const before = await contentOf(end, name);
  const pages = (await plannedPages(move)).map(({ page }) => page);
  const [main, ...tables] = dialect.files(set, pages);
  const text = before?.toString('latin1') ?? '';
  const after = server === 'apache' ? redirectBlock.with(text, main!.text) : frontFile(main!.text);
  const isOurs = server === 'apache' ? redirectBlock.in(text) !== undefined : text.includes(frontMark);
  const file = `${place}/${markers[server]}`;
  const kept = before && !isOurs ? await keep(move, server, before) : await keptBefore(file, move);
  await noteDeed(run, 'redirects', { kind: 'redirects put', place: String(place), file, kept });
  await removeTables(end);
  await writeTables(run, end, tables);
  await replaceIf(end, name, { before, after: Buffer.from(after, 'latin1'), file });
  const placed = { ...by, file, kept, tables: tables.length, changed: true };
  const failure = await failureOf(run, set);
  if (failure === undefined) return { placed, findings: [...findings] };
  await takeBackFrom(move, end, server, { kept, file });
  await noteDeed(run, 'redirects', { kind: 'redirects taken back', place: String(place) });
  const failed = finding({
    level: 'stop',
    code: 'redirect-put-failed',
    place: file,
    what: `The site failed with the redirects in place (${failure}), so they were taken back`,
    remedy:
      server === 'apache'
        ? 'Its host may not allow rewriting in .htaccess files: try redirects.server: php, or ask the host'
        : 'See the error log of the host, or put the redirects in place another way',
  });
  return { placed: { ...placed, changed: false }, findings: [...findings, failed] };
}

/** Takes the redirects out of the file again; what others changed around them stays. */
export async function takeBackRedirects(run: StepRun): Promise<{ placed: Placed; findings: Finding[] }> {
  const { move } = run;
  const server = move.sheet.redirects.server ?? usualDialect;
  const { set } = await redirectsOf(move);
  const dialect = dialects.find(({ name }) => name === server)!;
  const by = {
    server,
    where: dialect.where(set.from[0], set),
    end: staysThere(move) ? ('new' as const) : ('old' as const),
  };
  if (server !== 'apache' && server !== 'php')
    return { placed: { ...by, file: undefined, kept: undefined, tables: 0, changed: false }, findings: [] };
  const { place } = endOf(move);
  const file = `${place}/${markers[server]}`;
  const kept = await keptBefore(file, move);
  const changed = await takeBackFrom(move, place.open(), server, { kept, file });
  if (changed) await noteDeed(run, 'redirects', { kind: 'redirects taken back', place: String(place) });
  return { placed: { ...by, file, kept, tables: 0, changed }, findings: [] };
}

async function takeBackFrom(
  move: Move,
  end: FilesEnd,
  server: 'apache' | 'php',
  { kept, file }: { readonly kept: string | undefined; readonly file: string },
): Promise<boolean> {
  const name = bytesOfText(markers[server]);
  const before = await contentOf(end, name);
  const text = before?.toString('latin1') ?? '';
  const isOurs = server === 'apache' ? redirectBlock.in(text) !== undefined : text.includes(frontMark);
  if (!isOurs) {
    await removeTables(end);
    return false;
  }
  const was = kept === undefined ? undefined : await readFile(move.folder.at(kept));
  const after = server === 'apache' ? Buffer.from(redirectBlock.without(text), 'latin1') : was;
  const isEmpty = after === undefined || (after.length === 0 && was === undefined);
  if (isEmpty) await end.remove(name);
  else await replaceIf(end, name, { before, after, file });
  // Requests under way may still be led there.
  await removeTables(end);
  return true;
}

function frontFile(text: string): string {
  return text.replace('<?php\n', `<?php\n// ${frontMark}\n`);
}

async function keep(move: Move, server: 'apache' | 'php', content: Buffer): Promise<string> {
  const name = `redirects/kept/${markers[server].replace(/^\./, '')}-${createHash('sha256').update(content).digest('hex').slice(0, 12)}`;
  await move.folder.write(name, content);
  return name;
}

/** What the journal says is kept of a file, by its path in the move folder. */
async function keptBefore(file: string, { folder }: Pick<Move, 'folder'>): Promise<string | undefined> {
  const deeds = (await folder.readJournal()).map(({ deed }) => deed);
  const last = deeds.filter(deed => deed?.kind === 'redirects put' && deed.file === file).at(-1);
  return last?.kind === 'redirects put' ? last.kept : undefined;
}

async function removeTables(end: FilesEnd): Promise<void> {
  await end.remove(bytesOfText(apacheTables));
}

/** Writes the tables of many redirects, several at a time. */
async function writeTables(
  run: StepRun,
  end: FilesEnd,
  tables: readonly { path: string; text: string }[],
): Promise<void> {
  let done = 0;
  const waiting = [...tables];
  const work = async () => {
    for (let next = waiting.shift(); next; next = waiting.shift()) {
      run.signal.throwIfAborted();
      await end.write(bytesOfText(next.path), Buffer.from(next.text, 'latin1'));
      run.events({ type: 'progress', what: next.path, done: ++done, of: tables.length, unit: 'files' });
    }
  };
  await Promise.all(Array.from({ length: Math.min(end.atOnce, 16) }, work));
}

/** Whether the site fails now: its server's own error in place of a page. */
async function failureOf(run: StepRun, set: RedirectSet): Promise<string | undefined> {
  const site = askableSiteOf(run.move, staysThere(run.move) ? 'new' : 'old');
  if (!site) return undefined;
  try {
    for (const page of ['/', set.singles[0]?.key ?? '/', '/able-porter-no-such-page']) {
      const answer = await site
        .get(page, run.signal, { isOneHop: true, most: 1024 })
        .catch((error: Error) => error);
      run.signal.throwIfAborted();
      if (answer instanceof Error) return `no answer: ${answer.message}`;
      if (answer.status >= 500) return `${page} answers ${answer.status}`;
    }
    return undefined;
  } finally {
    await site.close();
  }
}

import { randomBytes } from 'node:crypto';
import { addressPath } from '../../core/address/address.js';
import { type ByteString, bytesOfText } from '../../core/bytes.js';
import { UsageError } from '../../core/errors.js';
import { type Finding, finding } from '../../core/findings/findings.js';
import type { Family } from '../../core/site/families/family.js';
import {
  clockPath,
  freezeBlock,
  freezeRules,
  isOurMaintenanceFile,
  maintenanceFile,
  offsetOf,
  serverTime,
} from '../../core/site/freeze/freeze.js';
import type { FilesEnd } from '../../ends/files/files-end.js';
import type { FilesPlace } from '../../ends/files/place.js';
import { ledgerOf } from '../move/ledger.js';
import { lookAtSite, treeOf } from '../move/read-site.js';
import { askableSiteOf } from '../move/sites.js';
import { noteDeed, type StepRun } from '../move/step.js';
import { contentOf, replaceIf } from '../transfer/edit-file.js';

/** How the old site is closed for what writes. */
export interface Freeze {
  readonly file: string;
  /** When it opens by itself, ISO 8601. */
  readonly until: string;
  /** Whether visitors can still read, or see a maintenance page. */
  readonly shows: 'the site' | 'a maintenance page';
  /** Whether the old site was asked and does as it should; undefined where it cannot be asked. */
  readonly proven: boolean | undefined;
}

const htaccess = bytesOfText('.htaccess');
const maintenance = bytesOfText('.maintenance');

/**
 * Closes the old site for what writes, for some minutes: by rules of its web server, with which visitors can read on, or by
 * a maintenance page. It opens by itself then. Asked again, it lasts longer.
 * @throws UsageError where the sheet names no old files, or a site of its family has no page of its own
 */
export async function freezeOldSite(
  run: StepRun,
  minutes: number,
): Promise<{ freeze: Freeze | undefined; findings: Finding[] }> {
  const place = placeOf(run);
  const end = place.open();
  const until = Date.now() + minutes * 60_000;
  const { family } = await lookAtSite(treeOf(place), run.move.oldAddress);
  const isPage = run.move.sheet.dns?.freeze === 'maintenance';
  const name = isPage ? maintenance : htaccess;
  const file = `${place}/${name}`;
  const iso = new Date(until).toISOString();
  const before = await contentOf(end, name);
  const write = async (text: string) => {
    const there = await contentOf(end, name);
    await replaceIf(end, name, { before: there, after: Buffer.from(text, 'latin1'), file });
  };
  await noteDeed(run, 'cutover', { kind: 'frozen', place: String(place), file: String(name), until: iso });
  const source = before?.toString('latin1') ?? '';
  if (isPage) await write(pageFor(family, source, Math.floor(until / 1000)));
  else await writeRules(run, family, source, until, write);
  const failure = await failureOf(run, isPage);
  const shows = isPage ? 'a maintenance page' : 'the site';
  if (failure === undefined || failure === 'not asked')
    return {
      freeze: { file, until: iso, shows, proven: failure === undefined ? true : undefined },
      findings: [],
    };
  await thawOldSite(run);
  return {
    freeze: undefined,
    findings: [
      finding({
        level: 'stop',
        code: 'freeze-failed',
        place: file,
        what: `The old site was not closed for what writes (${failure}), so it is as it was`,
        remedy: isPage
          ? 'Close it in its own administration'
          : 'Its server may not follow .htaccess files: set dns.freeze: maintenance, or close it in its own administration',
      }),
    ],
  };
}

/** Opens the old site again. @returns whether it was closed */
export async function thawOldSite(run: StepRun): Promise<boolean> {
  const { frozen } = await ledgerOf(run.move);
  if (!frozen) return false;
  const end = placeOf(run).open();
  const name = bytesOfText(frozen.file);
  const before = await contentOf(end, name);
  if (before) await thawFile(end, name, before, `${frozen.place}/${frozen.file}`);
  await noteDeed(run, 'cutover', { kind: 'thawed', place: frozen.place });
  return true;
}

async function thawFile(end: FilesEnd, name: ByteString, before: Buffer, file: string): Promise<void> {
  const source = before.toString('latin1');
  if (isOurMaintenanceFile(source)) return end.remove(name);
  const text = freezeBlock.without(source);
  if (text === source) return;
  // A file that nobody else has written goes.
  if (text === '') return end.remove(name);
  await replaceIf(end, name, { before, after: Buffer.from(text, 'latin1'), file });
}

function placeOf({ move }: StepRun): FilesPlace {
  if (move.oldPlace) return move.oldPlace;
  throw new UsageError({
    doing: 'Freezing the old site',
    cause: 'the sheet names no old.files',
    remedy: 'Add them, or close the old site in its own administration',
  });
}

/** Writes the rules, asks the server for its time, and writes them again where that is not UTC. */
async function writeRules(
  run: StepRun,
  family: Family,
  source: string,
  until: number,
  write: (text: string) => Promise<void>,
): Promise<void> {
  const token = randomBytes(8).toString('hex');
  const administration = family.web?.administration?.replace(/[^/]*\.php$/, '');
  const closed =
    administration === undefined || administration.includes('?')
      ? []
      : [addressPath(run.move.oldAddress) + administration];
  const rules = (offset: number) =>
    freezeBlock.with(source, freezeRules({ until: serverTime(until, offset), token, closed }));
  await write(rules(0));
  const offset = await offsetOfServer(run, token);
  if (offset) await write(rules(offset));
}

async function offsetOfServer(run: StepRun, token: string): Promise<number | undefined> {
  const site = askableSiteOf(run.move, 'old');
  if (!site) return undefined;
  try {
    const { address } = await site.get(`/${clockPath(token)}`, run.signal, { isOneHop: true, most: 1024 });
    return offsetOf(new URL(address).searchParams.get('t') ?? '', Date.now());
  } catch {
    run.signal.throwIfAborted();
    return undefined;
  } finally {
    await site.close();
  }
}

/** The maintenance file of a site. @throws UsageError where its family has none, or somebody else has put one there */
function pageFor(family: Family, source: string, until: number): string {
  const own = family.maintenance && 'file' in family.maintenance ? family.maintenance.file : undefined;
  if (own !== maintenance) throw noPage('a site of its family has no page that opens by itself');
  if (source !== '' && !isOurMaintenanceFile(source)) throw noPage('its maintenance file is there already');
  return maintenanceFile(until);
}

function noPage(cause: string): UsageError {
  return new UsageError({
    doing: 'Showing a maintenance page at the old site',
    cause,
    remedy: 'Use dns.freeze: writes, or close the old site in its own administration',
  });
}

/** What the old site does otherwise than it should: undefined where nothing, `not asked` where nobody can be. */
async function failureOf(run: StepRun, isPage: boolean): Promise<string | undefined> {
  const site = askableSiteOf(run.move, 'old');
  if (!site) return 'not asked';
  try {
    const read = await site.get('/', run.signal, { most: 1024 });
    if (isPage) return read.status === 503 ? undefined : `its front page answers ${read.status}`;
    if (read.status >= 500) return `its front page answers ${read.status}`;
    const form = new URLSearchParams({ from: 'able-porter' });
    const written = await site.get('/', run.signal, { form, isOneHop: true, most: 1024 });
    return written.status === 503 ? undefined : `a form that is sent answers ${written.status}`;
  } catch (error) {
    run.signal.throwIfAborted();
    return (error as Error).message;
  } finally {
    await site.close();
  }
}

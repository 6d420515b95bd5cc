import { randomUUID } from 'node:crypto';
import { addressPath } from '../../../core/address/address.js';
import { asBytes, bytesOfText, textOf } from '../../../core/bytes.js';
import { type Finding, finding } from '../../../core/findings/findings.js';
import type { FilesPlace } from '../../../ends/files/place.js';
import type { WebSite } from '../../../ends/http/web-site.js';
import { ledgerOf } from '../../move/ledger.js';
import type { Move } from '../../move/open.js';
import { askableSiteOf } from '../../move/sites.js';
import type { StepRun } from '../../move/step.js';
import { foldersWithOwn, isEmpty, ownFolder, topLevel } from './staging.js';

/** Makes the folder in which things wait and are kept: its owner alone may enter, and the web server is configured so as well. */
export async function makeOwnFolder({ move }: Pick<StepRun, 'move'>, folder: FilesPlace): Promise<void> {
  const end = folder.open();
  const own = bytesOfText(ownFolder(move.sheet.name));
  const rule = asBytes(`${own}/.htaccess`);
  const [folderThere, ruleThere] = await Promise.all([end.entry(own), end.entry(rule)]);
  const isOurs = folderThere?.type === 'folder' && (folderThere.mode & 0o777) === 0o700;
  if (!isOurs) await end.makeFolder(own, 0o700);
  if (!ruleThere) await end.write(rule, Buffer.from('Require all denied\n'));
}

/** Removes the folders in which things waited and were kept, once nothing is in them any more. */
export async function clearFolders(move: Move): Promise<void> {
  for (const folder of foldersWithOwn(move, await ledgerOf(move))) await clearOwnFolder(move, folder);
}

/** The same for one of them. */
export async function clearOwnFolder({ sheet }: Pick<Move, 'sheet'>, folder: FilesPlace): Promise<void> {
  const name = ownFolder(sheet.name);
  const own = folder.below(name);
  const end = own.open();
  if (!(await end.isThere())) return;
  let left = await topLevel(end);
  for (const { path } of left)
    if (path.endsWith('.files') && (await isEmpty(own.below(textOf(path))))) {
      await end.remove(path);
      left = left.filter(one => one.path !== path);
    }
  if (left.every(({ path }) => path === '.htaccess')) await folder.open().remove(bytesOfText(name));
}

/**
 * Asks the new web server for a file that is put into that folder and removed again. All folders of the site's address
 * are tried: the folder above a site is often the web root of another one.
 */
export async function fetchableFindings(run: StepRun, folder: FilesPlace): Promise<Finding[]> {
  const { move, signal } = run;
  const own = ownFolder(move.sheet.name);
  const place = folder.below(own).text;
  const { newAddress } = move;
  const site = askedSite(move);
  const [name, token] = [`${own}/${randomUUID()}.txt`, randomUUID()];
  const end = folder.open();
  const path = bytesOfText(name);
  let isAsked = site !== undefined;
  try {
    if (site) await end.write(path, Buffer.from(token), { mode: 0o644, mtime: Date.now() });
    const levels = addressPath(newAddress).split('/').length;
    for (let up = 0; site && up < levels; up++) {
      const page = await site.get(`/${'../'.repeat(up)}${name}`, signal).catch(() => undefined);
      signal.throwIfAborted();
      if (page?.html.includes(token)) return [fetchableFinding(place, page.address)];
      isAsked &&= page !== undefined;
    }
  } finally {
    if (site) await end.remove(path);
  }
  const mayBeServed = folder.text === move.newFiles?.text || addressPath(newAddress) !== '';
  return isAsked || !mayBeServed ? [] : [notAskedFinding(place)];
}

/** The new site, where its own web server can be asked. */
function askedSite(move: Move): WebSite | undefined {
  const { oldAddress, newAddress, sheet } = move;
  // Before the cutover the name leads to the old host, where the address stays.
  const leadsToOld = sheet.new.reach === undefined && newAddress.host === oldAddress.host;
  return leadsToOld ? undefined : askableSiteOf(move, 'new');
}

/** The same for a folder that need not be there: it is made for this, and removed. */
export async function fetchableTrial(run: StepRun, folder: FilesPlace): Promise<Finding[]> {
  if (!askedSite(run.move)) return fetchableFindings(run, folder);
  const own = bytesOfText(ownFolder(run.move.sheet.name));
  const end = folder.open();
  const isNew = (await end.entry(own)) === undefined;
  await makeOwnFolder(run, folder);
  const findings = await fetchableFindings(run, folder);
  if (isNew) await end.remove(own);
  return findings;
}

function fetchableFinding(place: string, address: string): Finding {
  return finding({
    level: 'stop',
    code: 'waiting-fetchable',
    place,
    what: `Visitors can fetch what waits and is kept there: a file in it was served at ${new URL('.', address).href}`,
    remedy:
      'Let the web server refuse names that begin with a dot (Apache: AllowOverride All; nginx: location ~ /\\. { deny all; }), then run the command again',
  });
}

function notAskedFinding(place: string): Finding {
  return finding({
    level: 'note',
    code: 'waiting-not-asked',
    place,
    what: 'What waits and is kept there is in a web root, closed by its mode and a rule; the web server was not asked whether it keeps to that',
    remedy: 'Give new.reach, so that it can be asked',
  });
}

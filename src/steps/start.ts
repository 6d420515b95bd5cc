import { basename, dirname, resolve } from 'node:path';
import { addressPath, formatAddress, parseAddress } from '../core/address/address.js';
import { UsageError } from '../core/errors.js';
import { type SheetAnswers, writeSheet } from '../core/sheet/write.js';
import { localFolder, openFiles } from '../ends/files/place.js';
import { writeWhole } from '../ends/move-folder.js';
import { telling } from '../ends/trouble.js';
import { lookAtSite, treeOf } from './site.js';

/** What the flags or the person said; what was not said is undefined. */
export interface StartWish {
  readonly name?: string | undefined;
  readonly old?: string | undefined;
  readonly also?: readonly string[];
  readonly oldFiles?: string | undefined;
  readonly oldDump?: string | undefined;
  readonly new?: string | undefined;
  readonly newFiles?: string | undefined;
  readonly newDump?: string | undefined;
  readonly newServer?: string | undefined;
  readonly newPrefix?: string | undefined;
  readonly webServer?: string | undefined;
  readonly oldRecord?: string | undefined;
  readonly newRecord?: string | undefined;
}

export interface StartOutcome {
  readonly file: string;
  readonly family: string;
}

/** The flags without which no sheet can be written. */
export function missingAnswers(wish: StartWish): string[] {
  const missing: string[] = [];
  if (!wish.old) missing.push('--old');
  if (!wish.new) missing.push('--new');
  if (!wish.oldFiles && !wish.oldDump) missing.push('--old-files or --old-dump');
  if (wish.oldFiles && !wish.newFiles) missing.push('--new-files');
  if (wish.oldDump && !wish.newDump) missing.push('--new-dump');
  return missing;
}

/**
 * Writes a commented sheet.
 * @throws UsageError when an answer is missing or cannot be read
 */
export async function start(wish: StartWish, file: string): Promise<StartOutcome> {
  const missing = missingAnswers(wish);
  if (missing.length > 0) {
    throw new UsageError({
      doing: `Writing ${file}`,
      cause: `${missing.join(', ')} ${missing.length === 1 ? 'is' : 'are'} missing, and there is no terminal to ask at`,
      remedy: 'Give them as flags; "able-porter start --help" shows all of them',
    });
  }
  const old = parseAddress(wish.old!);
  const next = parseAddress(wish.new!);
  const from = dirname(resolve(file));
  const site = wish.oldFiles
    ? await lookAtSite(treeOf(openFiles(localFolder(wish.oldFiles, from))), old)
    : undefined;
  const answers: SheetAnswers = {
    name:
      wish.name ??
      next.host.split('.')[0]! +
        addressPath(next)
          .replace(/[^\w.-]+/g, '-')
          .replace(/-$/, ''),
    oldAddress: formatAddress(old),
    also: (wish.also ?? []).map(one => formatAddress(parseAddress(one))),
    oldFiles: wish.oldFiles,
    oldDump: wish.oldDump,
    newAddress: formatAddress(next),
    newFiles: wish.newFiles,
    newDump: wish.newDump,
    newServer: wish.newServer,
    newPrefix: wish.newPrefix,
    without: site?.family.without ?? [],
    leave: [],
    webServer: wish.webServer === 'nginx' || wish.webServer === 'apache' ? wish.webServer : undefined,
    oldRecord: wish.oldRecord,
    newRecord: wish.newRecord,
  };
  await telling(`Writing ${file}`, () => writeWhole(resolve(file), writeSheet(answers)));
  return { file: basename(file) === file ? `./${file}` : file, family: site?.family.name ?? 'plain' };
}

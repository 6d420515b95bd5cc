import { dirname, isAbsolute, resolve } from 'node:path';
import { type Address, parseAddress } from '../../core/address/address.js';
import { UsageError } from '../../core/errors.js';
import { isRemotePlace, parsePlaceUrl } from '../../core/files/place-url.js';
import { Workbench } from '../../core/kernels/workbench.js';
import type { Sheet } from '../../core/sheet/schema.js';
import { KeptSessions } from '../../ends/database/server/session/kept-sessions.js';
import { hatchAccount } from '../../ends/files/hatch/account.js';
import { FilesAccounts, type FilesPlace, localPlace } from '../../ends/files/place.js';
import type { FilesAccount } from '../../ends/files/protocol.js';
import { Hatch } from '../../ends/hatch/hatch.js';
import type { HatchPlace } from '../../ends/hatch/place.js';
import type { WebSite } from '../../ends/http/web-site.js';
import { Crate } from '../../ends/move-folder/crate.js';
import { MoveFolder } from '../../ends/move-folder/move-folder.js';
import { readSecretsFile } from '../../ends/move-folder/secrets.js';
import type { AskTrust } from '../../ends/trust/ask-trust.js';
import { type Trust, trustIn } from '../../ends/trust/trust.js';
import { ledgerOf } from './ledger.js';
import { siteOf } from './sites.js';

/** One job: its folder, its sheet, and the places that the sheet names. */
export interface Move {
  readonly folder: MoveFolder;
  readonly sheet: Sheet;
  readonly oldAddress: Address;
  readonly newAddress: Address;
  readonly crate: Crate;
  /** Where dumps and values are worked on; made when it is first needed. */
  readonly bench: Workbench;
  /** The accounts that both ends' places are in. */
  readonly accounts: FilesAccounts;
  /** Connections to both ends' databases. */
  readonly sessions: KeptSessions;
  /** Which hosts are trusted beyond what this machine knows. */
  readonly trust: Trust;
  /** Undefined where the sheet names none, or takes no files. */
  readonly oldFiles: FilesPlace | undefined;
  /** The same, also where no files are taken from it. */
  readonly oldPlace: FilesPlace | undefined;
  /** Whether the old database is taken from its server. */
  readonly oldLive: boolean;
  /** Whether the new database is loaded at its server. */
  readonly newLive: boolean;
  /** A dump that somebody has taken, on this machine; an absolute path. */
  readonly oldDump: string | undefined;
  readonly newFiles: FilesPlace | undefined;
  /** Where the finished dump is left, on this machine. */
  readonly newDump: FilesPlace | undefined;
}

/**
 * Opens the move that a sheet describes.
 * @throws UsageError when the sheet has mistakes, or its places cannot be a move
 */
export async function openMove(
  sheetFile: string,
  environment: Readonly<Record<string, string | undefined>>,
  ask?: AskTrust,
): Promise<Move> {
  const folder = new MoveFolder(sheetFile);
  const sheet = await folder.readSheet(environment);
  const { database } = sheet.new;
  if (database?.administrator)
    database.password ??= (await readSecretsFile(folder.at('.env'))).NEW_DB_PASSWORD;
  for (const path of [sheet.new.files, database?.dump])
    if (path && !isAbsolute(path) && !parsePlaceUrl(path))
      folder.companions.add(dirname(resolve(folder.folder, path)));
  const trust = trustIn(folder.folder, ask && oneAtATime(ask));
  const accounts = new FilesAccounts(folder.folder, trust);
  const place = (side: 'old' | 'new') => {
    const { files, login = {}, hatch } = sheet[side];
    if (hatch && !isRemotePlace(files)) throw noHatchHere(side);
    if (!files) return undefined;
    // The move is whole when the hatch is first needed.
    const through = (account: FilesAccount, root: string) =>
      hatchAccount(account, root, new Hatch(hatchPlaceIn(() => move, side, account, root)));
    return accounts.place(files, login, hatch && through);
  };
  const dump = (file: string | undefined) => file && resolve(folder.folder, file);
  const oldPlace = place('old');
  const takesDatabase = sheet.take.database !== false;
  const { from, server } = sheet.old.database ?? {};
  let bench: Workbench | undefined;
  const move: Move = {
    folder,
    sheet,
    oldAddress: parseAddress(sheet.old.address),
    newAddress: parseAddress(sheet.new.address),
    crate: new Crate(folder.at('crate')),
    get bench() {
      bench ??= new Workbench();
      return bench;
    },
    accounts,
    sessions: new KeptSessions(),
    trust,
    oldFiles: sheet.take.files === false ? undefined : oldPlace,
    oldPlace,
    oldLive: takesDatabase && (from !== undefined || server !== undefined),
    newLive: takesDatabase && sheet.new.database?.server !== undefined && !sheet.new.database.dump,
    oldDump: takesDatabase ? dump(sheet.old.database?.dump) : undefined,
    newFiles: place('new'),
    newDump: sheet.new.database?.dump
      ? localPlace(resolve(folder.folder, sheet.new.database.dump))
      : undefined,
  };
  await refuseTangledPlaces(move);
  return move;
}

function noHatchHere(end: 'old' | 'new'): UsageError {
  return new UsageError({
    doing: `Reading ${end}.hatch`,
    cause: `${end}.files is not at another host`,
    remedy: `Leave ${end}.hatch out, or name the account that puts it there: ${end}.files: ftps://user@host/htdocs`,
  });
}

/** Where the hatch of an end is put. @param moveOf gives the move once it is whole */
function hatchPlaceIn(
  moveOf: () => Move,
  end: 'old' | 'new',
  account: FilesAccount,
  root: string,
): HatchPlace {
  const text = account.name + root;
  const above = dirname(root);
  let site: WebSite | undefined;
  return {
    end,
    get site() {
      site ??= siteOf(moveOf(), end);
      return site;
    },
    folder: account.open(root, text),
    above: account.open(above, account.name + above),
    get isPlain() {
      return moveOf().sheet[end].hatch?.plain === true;
    },
    note: (name, state) =>
      moveOf().folder.note({
        at: new Date().toISOString(),
        step: 'survey',
        event: 'did',
        deed: state === 'put' ? { kind: 'hatch put', place: text, name } : { kind: 'hatch gone', name },
      }),
    left: async () => {
      const { hatches } = await ledgerOf(moveOf());
      return [...hatches].filter(([, at]) => at === text).map(([name]) => name);
    },
  };
}

/** Asks a person one question after the other, though several connections may need an answer at the same moment. */
function oneAtATime(ask: AskTrust): AskTrust {
  let last: Promise<unknown> = Promise.resolve();
  return question => {
    const answer = last.then(() => ask(question));
    last = answer.catch(() => {});
    return answer;
  };
}

/** @throws UsageError where one place is inside of another, also through links */
async function refuseTangledPlaces({ folder, ...move }: Move): Promise<void> {
  const [oldFiles, newFiles, newDump] = await Promise.all(
    [move.oldPlace, move.newFiles, move.newDump].map(place => place?.real()),
  );
  const oldDump = move.oldDump && (await localPlace(move.oldDump).real()).path;
  const moveFolder = (await localPlace(folder.folder).real()).path;
  const refuse = (cause: string, remedy: string): never => {
    throw new UsageError({ doing: `Reading the places in ${folder.sheetFile}`, cause, remedy });
  };
  if (oldFiles && newFiles) {
    if (oldFiles.pathTo(newFiles) === '')
      refuse(`old.files and new.files are both ${oldFiles}`, 'Name another folder for the new site');
    if (oldFiles.pathTo(newFiles) !== undefined)
      refuse(`new.files (${newFiles}) is inside old.files`, 'Name a folder outside of the old site');
    if (newFiles.pathTo(oldFiles) !== undefined)
      refuse(`old.files (${oldFiles}) is inside new.files`, 'Name a folder that does not hold the old site');
  }
  if (oldFiles?.isLocal && oldFiles.pathTo(moveFolder) !== undefined) {
    refuse(
      `the move folder ${moveFolder} is inside the old site`,
      'Keep the sheet and the crate outside of what visitors can fetch',
    );
  }
  if (newFiles?.isLocal && newFiles.pathTo(moveFolder) !== undefined) {
    refuse(
      `the move folder ${moveFolder} is inside new.files, which a delivery replaces`,
      'Keep the sheet and the crate outside of what visitors can fetch',
    );
  }
  for (const [key, files] of [
    ['new.files', newFiles],
    ['old.files', oldFiles],
  ] as const) {
    if (newDump && files?.isLocal && files.pathTo(newDump) !== undefined) {
      refuse(
        `new.database.dump (${newDump}) is inside ${key}, where visitors could fetch it`,
        'Name a place outside of both web roots, such as finished.sql in the move folder',
      );
    }
  }
  if (oldDump && oldDump === newDump?.path)
    refuse(`old and new dump are both ${oldDump}`, 'Give the finished dump another name');
}

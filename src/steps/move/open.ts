import { createHash } from 'node:crypto';
import { stat } from 'node:fs/promises';
import { resolve } from 'node:path';
import { type Address, parseAddress } from '../../core/address/address.js';
import { type Pair, pairsOfMove, parsePair } from '../../core/address/pairs.js';
import { applyEdits, textOf } from '../../core/bytes.js';
import { UsageError } from '../../core/errors.js';
import type { FileEntry } from '../../core/files/entries.js';
import type { DumpTerms } from '../../core/rewrite/carriers/dump-terms.js';
import { editsInValue } from '../../core/rewrite/carriers/value.js';
import { unnoted } from '../../core/rewrite/report/observer.js';
import { type PrefixChange, renamed } from '../../core/rewrite/terms/prefix.js';
import { compileRules, type RuleOptions, type Rules } from '../../core/rewrite/terms/rules.js';
import type { Sheet } from '../../core/sheet/schema.js';
import type { SiteMove } from '../../core/site/configuration/source/facts.js';
import { columnsOf } from '../../core/site/data/family-columns.js';
import type { Family } from '../../core/site/families/family.js';
import { isLocal, placeOf } from '../../ends/files/place.js';
import { Crate } from '../../ends/move-folder/crate.js';
import { MoveFolder, readSecretsFile } from '../../ends/move-folder/move-folder.js';
import { type AskHostKey, HostKeys } from '../../ends/ssh/host-keys.js';
import { telling } from '../../ends/trouble.js';

/** One job: its folder, its sheet, and the places that the sheet names. */
export interface Move {
  readonly folder: MoveFolder;
  readonly sheet: Sheet;
  readonly oldAddress: Address;
  readonly newAddress: Address;
  readonly crate: Crate;
  /** Folders and dump files as absolute paths; undefined where the sheet names none. */
  readonly oldFiles: string | undefined;
  /** The same, also where no files are taken from it. */
  readonly oldPlace: string | undefined;
  /** Whether the old database is taken from its server. */
  readonly oldLive: boolean;
  /** Whether the new database is loaded at its server. */
  readonly newLive: boolean;
  readonly oldDump: string | undefined;
  readonly newFiles: string | undefined;
  readonly newDump: string | undefined;
}

/**
 * Opens the move that a sheet describes.
 * @throws UsageError when the sheet has mistakes, or its places cannot be a move
 */
export async function openMove(
  sheetFile: string,
  environment: Readonly<Record<string, string | undefined>>,
  askHostKey?: AskHostKey,
): Promise<Move> {
  const folder = new MoveFolder(sheetFile);
  const sheet = await folder.readSheet(environment);
  const { database } = sheet.new;
  if (database?.administrator)
    database.password ??= (await readSecretsFile(folder.at('.env'))).NEW_DB_PASSWORD;
  const hostKeys = new HostKeys(folder.folder, askHostKey);
  const place = (end: Sheet['old'] | Sheet['new']) =>
    end.files && placeOf(end.files, folder.folder, end.login ?? {}, hostKeys);
  const dump = (file: string | undefined) => file && resolve(folder.folder, file);
  const oldPlace = place(sheet.old);
  const takesDatabase = sheet.take.database !== false;
  const { from, server } = sheet.old.database ?? {};
  const move: Move = {
    folder,
    sheet,
    oldAddress: parseAddress(sheet.old.address),
    newAddress: parseAddress(sheet.new.address),
    crate: new Crate(folder.at('crate')),
    oldFiles: sheet.take.files === false ? undefined : oldPlace,
    oldPlace,
    oldLive: takesDatabase && (from !== undefined || server !== undefined),
    newLive: takesDatabase && sheet.new.database?.server !== undefined && !sheet.new.database.dump,
    oldDump: takesDatabase ? dump(sheet.old.database?.dump) : undefined,
    newFiles: place(sheet.new),
    newDump: dump(sheet.new.database?.dump),
  };
  refuseTangledPlaces(move);
  return move;
}

function refuseTangledPlaces({ oldFiles, newFiles, oldDump, newDump, folder }: Move): void {
  const within = (inner: string, outer: string) => inner === outer || inner.startsWith(`${outer}/`);
  const refuse = (cause: string, remedy: string): never => {
    throw new UsageError({ doing: `Reading the places in ${folder.sheetFile}`, cause, remedy });
  };
  if (oldFiles && newFiles) {
    if (oldFiles === newFiles)
      refuse(`old.files and new.files are both ${oldFiles}`, 'Name another folder for the new site');
    if (within(newFiles, oldFiles))
      refuse(`new.files (${newFiles}) lies inside old.files`, 'Name a folder outside the old site');
    if (within(oldFiles, newFiles))
      refuse(
        `old.files (${oldFiles}) lies inside new.files`,
        'Name a folder that does not hold the old site',
      );
  }
  if (oldFiles && isLocal(oldFiles) && within(folder.folder, oldFiles)) {
    refuse(
      `the move folder ${folder.folder} lies inside the old site`,
      'Keep the sheet and the crate outside of what visitors can fetch',
    );
  }
  if (oldDump && oldDump === newDump)
    refuse(`old and new dump are both ${oldDump}`, 'Give the finished dump another name');
}

/** The pairs of a move: those that follow from the addresses, then the sheet's own. */
function pairsOf({ sheet }: Move): Pair[] {
  const own = sheet.rewrite.pairs.map(({ from, to }) => parsePair(from, to));
  return [...pairsOfMove(sheet.old.address, sheet.old.also, sheet.new.address), ...own];
}

export function rulesOf(move: Move): Rules {
  return compileRules(pairsOf(move), ruleOptions(move));
}

/** What the sheet asks for beyond its pairs. */
export function ruleOptions({ sheet: { rewrite } }: Move): RuleOptions {
  return {
    mail: rewrite.mail,
    bareHosts: rewrite['bare-hosts'],
    mend: rewrite.mend,
    openBase64: rewrite['open-base64'],
  };
}

/** What the move changes for the site, as its configuration and server files need it. */
export function siteMoveOf(move: Move): SiteMove {
  const rules = rulesOf(move);
  const { oldAddress, newAddress } = move;
  return {
    oldAddress,
    newAddress,
    rewritten: value => applyEdits(value, editsInValue(value, rules, unnoted)),
  };
}

/** What is rewritten in the dump of the crate, but for table names where a prefix changes. */
export function dumpTermsOf(move: Move, family: Family): DumpTerms {
  return {
    pairs: pairsOf(move),
    options: ruleOptions(move),
    prefix: undefined,
    family: family.name,
    leave: move.sheet.rewrite.leave,
    only: [],
  };
}

/** The change of table prefix that the sheet asks for, if any. */
export function prefixChangeOf(
  move: Move,
  family: Family,
  oldPrefix: string | undefined,
): PrefixChange | undefined {
  const to = move.sheet.new.database?.prefix;
  if (to === undefined || oldPrefix === undefined || to === oldPrefix) return undefined;
  return { from: oldPrefix, to, data: columnsOf(family.name).prefixed };
}

/** The name of a table of the crate at the new end, as text. @param table its bytes, as the manifest has them */
export function newTableName(table: string, change: PrefixChange | undefined): string {
  return textOf(renamed(table, change) ?? table);
}

/** What tells one state of a file from another without reading it: size and time. */
export async function identityOf(file: string | undefined): Promise<unknown> {
  if (file === undefined) return undefined;
  const { size, mtimeMs } = await telling(`Looking at ${file}`, () => stat(file));
  return { file, size, mtimeMs };
}

/** A digest of a tree's listing. */
export async function identityOfTree(entries: AsyncIterable<FileEntry>): Promise<string> {
  const identity = new TreeIdentity();
  for await (const entry of entries) identity.add(entry);
  return identity.digest();
}

/** Takes a digest of a tree's listing. */
export class TreeIdentity {
  private readonly hash = createHash('sha256');

  add({ path, type, size, mtime, mode, to }: FileEntry): void {
    this.hash.update(`${JSON.stringify([path, type, size, mtime, mode, to ?? ''])}\n`);
  }

  /** The entries as they pass, which count. */
  async *through(entries: AsyncIterable<FileEntry>): AsyncIterable<FileEntry> {
    for await (const entry of entries) {
      this.add(entry);
      yield entry;
    }
  }

  digest(): string {
    return this.hash.digest('hex');
  }
}

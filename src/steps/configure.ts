import { applyEdits, type ByteString, bufferOf, bytesOfText, textOf } from '../core/bytes.js';
import { DamageError } from '../core/errors.js';
import type { Finding } from '../core/findings.js';
import { type FactName, type Facts, type Family, shownSource, type Wanted } from '../core/site/family.js';
import { isServerFile, readServerFile } from '../core/site/server-files.js';
import { sheetEditsIn } from '../core/site/sheet-edits.js';
import type { FilesEnd } from '../ends/files/files-end.js';
import { type Move, readAll, siteMoveOf } from './move.js';

/** A configuration file that was set up, and which of its facts changed. */
export interface Configured {
  readonly file: string;
  readonly changed: readonly FactName[];
}

/** What the new configuration shall say. */
export function wantedOf(move: Move, family: Family, facts: Facts): Wanted {
  const wanted: Wanted = {};
  const { database } = move.sheet.new;
  if (database?.server) {
    const url = new URL(database.server);
    const port = url.port === '' ? undefined : Number(url.port);
    wanted.name = bytesOfText(decodeURIComponent(url.pathname.slice(1)));
    wanted.user = bytesOfText(decodeURIComponent(url.username));
    Object.assign(wanted, family.databaseServer(url.hostname, port, facts));
  }
  if (database?.password !== undefined) wanted.password = bytesOfText(database.password);
  if (database?.prefix !== undefined) wanted.prefix = bytesOfText(database.prefix);
  Object.assign(wanted, family.moved(facts, siteMoveOf(move)));
  return wanted;
}

/** Makes the configuration in `files` say what the new site needs; `finalPlace` is where the files will stand. */
export async function configure(
  move: Move,
  family: Family,
  files: FilesEnd,
  finalPlace: string,
): Promise<{ configuration: Configured | undefined; findings: Finding[] }> {
  for (const path of family.configurations.filter(one => !one.startsWith('../')) as ByteString[]) {
    const entry = await files.entry(path);
    if (entry?.type !== 'file') continue;
    const source = await readAll(files, path);
    const facts = family.readConfiguration(source);
    if (!facts) break;
    const wanted = wantedOf(move, family, facts);
    const { edits, byHand } = family.editConfiguration(source, wanted);
    const after = applyEdits(source, edits);
    verifyConfiguration(
      family,
      after,
      wanted,
      byHand.map(one => one.fact),
      `${finalPlace}/${path}`,
    );
    await files.write(path, oneChunk(bufferOf(after)), entry);
    const changed = (Object.keys(wanted) as FactName[]).filter(fact => facts[fact]?.value !== wanted[fact]);
    const findings = byHand.map(
      ({ fact, line, source: expression }): Finding => ({
        level: 'warn',
        code: 'configuration-by-hand',
        place: `${finalPlace}/${path}${line > 0 ? `:${line}` : ''}`,
        what: `The ${fact} cannot be set safely${expression ? ` where it is ${shownSource(fact, expression)}` : ', since it is not there'}`,
        remedy: `Set it by hand in this file${fact === 'password' ? '' : ` to ${textOf(wanted[fact]!)}`}`,
      }),
    );
    return { configuration: { file: `${finalPlace}/${path}`, changed }, findings };
  }
  return { configuration: undefined, findings: [] };
}

/** Fits files to the new end: those that steer the web server, and those in which the sheet asks for edits. */
export async function fitFiles(
  move: Move,
  files: FilesEnd,
  finalPlace: string,
): Promise<{ fitted: string[]; findings: Finding[] }> {
  const fitted: string[] = [];
  const findings: Finding[] = [];
  const wishes = move.sheet.configure.edits;
  const found = wishes.map(() => 0);
  for (const entry of await move.crate.entries()) {
    if (entry.type !== 'file' || !isFittable(move, entry.path)) continue;
    const source = await readAll(files, entry.path);
    const after = fit(move, entry.path, source, (wish, count) => {
      found[wish]! += count;
    });
    if (after === source) continue;
    await files.write(entry.path, oneChunk(bufferOf(after)), entry);
    fitted.push(textOf(entry.path));
  }
  for (const [i, { file }] of wishes.entries()) {
    if (found[i]! > 0) continue;
    findings.push({
      level: 'warn',
      code: 'edit-not-found',
      place: `${finalPlace}/${file}`,
      what: `What edit ${i + 1} of configure.edits wants to change does not stand there`,
      remedy: 'Correct file or find in the sheet; they are compared byte for byte',
    });
  }
  return { fitted, findings };
}

/** Whether delivery may change a file besides the configuration. */
export function isFittable(move: Move, path: ByteString): boolean {
  return isServerFile(path) || move.sheet.configure.edits.some(({ file }) => bytesOfText(file) === path);
}

/** A file as it shall be at the new end. */
export function fit(
  move: Move,
  path: ByteString,
  source: ByteString,
  counted?: (wish: number, count: number) => void,
): ByteString {
  const served = applyEdits(source, readServerFile(path, source, siteMoveOf(move), path).edits);
  const wishes = [...move.sheet.configure.edits.entries()].filter(
    ([, { file }]) => bytesOfText(file) === path,
  );
  const { edits, counts } = sheetEditsIn(
    served,
    wishes.map(([, wish]) => wish),
  );
  for (const [i, [wish]] of wishes.entries()) counted?.(wish, counts[i]!);
  return applyEdits(served, edits);
}

/** Reads an edited configuration back: it must say what was wanted before it goes anywhere. */
function verifyConfiguration(
  family: Family,
  after: ByteString,
  wanted: Wanted,
  byHand: readonly FactName[],
  file: string,
): void {
  const facts = family.readConfiguration(after);
  for (const [fact, value] of Object.entries(wanted) as [FactName, ByteString][]) {
    if (byHand.includes(fact) || facts?.[fact]?.value === value) continue;
    throw new DamageError({
      doing: `Editing the configuration ${file}`,
      cause: `read back, its ${fact} is not what was written`,
      remedy: 'Nothing was put in place. Simplify that line of the old configuration and run it again',
    });
  }
}

async function* oneChunk(chunk: Buffer): AsyncIterable<Buffer> {
  yield chunk;
}

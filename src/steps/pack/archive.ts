import { mkdir, rename, rm } from 'node:fs/promises';
import { basename } from 'node:path';
import { type ByteString, textOf } from '../../core/bytes.js';
import { DamageError } from '../../core/errors.js';
import { archiveName } from '../../core/files/archive-names.js';
import type { CheckedEntry } from '../../core/files/entries.js';
import { alongside } from '../../core/files/order.js';
import { partsOf, readParts, writeParts } from '../../ends/archive/parts.js';
import { sealed, unsealed } from '../../ends/archive/seal.js';
import { settleCrate, tarOf, unpackCrate } from '../../ends/archive/tar.js';
import { LocalFiles } from '../../ends/files/local.js';
import { Crate, type CrateManifest } from '../../ends/move-folder/crate.js';
import { whileDoing } from '../../ends/system-errors.js';
import type { StepRun } from '../move/step.js';
import { TransferProgress } from '../transfer/progress.js';
import { listStanding } from '../transfer/verify.js';

/** A crate as one archive for transferring by hand. */
export interface CrateArchive {
  readonly files: readonly string[];
  readonly bytes: number;
  readonly encrypted: boolean;
}

/**
 * Writes the crate as one tar beside its folder, encrypted where there is a passphrase, in parts where asked.
 * @param partBytes the most bytes of a part
 */
export async function archiveCrate(
  run: StepRun,
  passphrase: string | undefined,
  partBytes: number | undefined,
): Promise<CrateArchive> {
  const { crate, folder, sheet } = run.move;
  const manifest = await crate.manifest();
  const progress = new TransferProgress(run.events, () => manifest.counts);
  let bytes = 0;
  const tar = tarOf(crate, manifest, entry => progress.done(entry));
  const counted = async function* (content: AsyncIterable<Buffer>): AsyncIterable<Buffer> {
    for await (const chunk of content) {
      run.signal.throwIfAborted();
      bytes += chunk.length;
      yield chunk;
    }
  };
  const name = folder.at(`${archiveName(sheet.name)}${passphrase === undefined ? '' : '.age'}`);
  const content = counted(passphrase === undefined ? tar : sealed(tar, passphrase));
  const files = await writeParts(name, content, partBytes);
  return { files, bytes, encrypted: passphrase !== undefined };
}

/**
 * Unpacks an archived crate into the move folder, and checks all of it before it takes the place of a crate there.
 * @param passphrase is asked for only where the archive is encrypted
 */
export async function openArchive(
  run: StepRun,
  archive: readonly string[],
  passphrase: () => Promise<string>,
): Promise<CrateManifest> {
  const files = await partsOf(archive);
  const shown = basename(files[0]!);
  return takeCrate(run, unsealed(readParts(files), passphrase, shown), shown);
}

/** The same with what is in an archive, as it comes. @param shown what it is called in messages */
export async function takeCrate(
  run: StepRun,
  content: AsyncIterable<Buffer>,
  shown: string,
): Promise<CrateManifest> {
  const { crate, folder } = run.move;
  const waiting = new Crate(folder.at('crate.incoming'));
  await rm(waiting.folder, { recursive: true, force: true });
  await whileDoing(`Making ${waiting.folder}`, () => mkdir(waiting.folder, { recursive: true, mode: 0o700 }));
  await unpackCrate(content, new LocalFiles(waiting.folder, { ownerOnly: true }), shown, run.signal);
  await settleCrate(waiting);
  const { manifest } = await verifyCrate(run, waiting);
  await whileDoing(`Putting ${crate.folder} in place`, async () => {
    await rm(crate.folder, { recursive: true, force: true });
    await rename(waiting.folder, crate.folder);
  });
  return manifest;
}

/** What was read again of a crate. */
export interface VerifiedCrate {
  readonly crate: string;
  readonly manifest: CrateManifest;
  readonly parts: number;
  readonly files: number;
  readonly bytes: number;
}

/**
 * Reads a crate again and compares all of it with its checksums.
 * @throws DamageError with the first thing that is not what it should be, and how many are not
 */
export async function verifyCrate(run: StepRun, crate = run.move.crate): Promise<VerifiedCrate> {
  const manifest = await crate.manifest();
  for (const [name, part] of Object.entries(manifest.parts)) {
    run.signal.throwIfAborted();
    await crate.verifyPart(name, part);
  }
  const progress = new TransferProgress(run.events, () => manifest.counts);
  const { files, bytes, wrong } = await unlike(run, crate.files, crate.entries(), progress);
  if (manifest.parts['above.ndjson'])
    wrong.push(...(await unlike(run, crate.above, crate.entries('above.ndjson'), progress)).wrong);
  if (wrong.length === 0)
    return { crate: crate.folder, manifest, parts: Object.keys(manifest.parts).length, files, bytes };
  throw new DamageError({
    doing: `Verifying the crate ${crate.folder}`,
    cause: `${wrong.length} ${wrong.length === 1 ? 'file or folder differs' : 'files or folders differ'} from its lists, the first ${wrong[0]}`,
    remedy: 'Pack again, or bring the crate over once more',
  });
}

/** So many files are read before progress is reported. */
const readAtOnce = 32;

/** Counts the files that a list says are in a folder, and names what is not so: missing, changed, or not on it. */
async function unlike(
  run: StepRun,
  end: LocalFiles,
  entries: AsyncIterable<CheckedEntry>,
  progress: TransferProgress,
): Promise<{ files: number; bytes: number; wrong: string[] }> {
  const seen = { files: 0, bytes: 0, wrong: [] as string[] };
  const shown = (path: ByteString) => `${end.place}/${textOf(path)}`;
  const lists = alongside({ listed: entries, there: listStanding(end, new Set(), run.signal) });
  for await (const { listed, there } of lists) {
    for (const { path, type, to } of there.values()) {
      const entry = listed.get(path);
      const isKnown = entry ? entry.type === type && entry.to === to : type === 'folder';
      if (!isKnown) seen.wrong.push(shown(path));
    }
    for (const entry of listed.values()) {
      const { path, type, size } = entry;
      if (!there.has(path)) seen.wrong.push(shown(path));
      if (type !== 'file') continue;
      seen.files++;
      seen.bytes += size;
    }
    const files = [...listed.values()].filter(({ path, type }) => type === 'file' && there.has(path));
    for (let at = 0; at < files.length; at += readAtOnce) {
      const some = files.slice(at, at + readAtOnce);
      const sums = await end.checksums(
        some.map(({ path }) => path),
        run.signal,
      );
      for (const entry of some) {
        if (sums.get(entry.path) !== entry.sha256) seen.wrong.push(shown(entry.path));
        progress.done(entry);
      }
    }
  }
  return seen;
}

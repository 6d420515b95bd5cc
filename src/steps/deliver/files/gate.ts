import { asBytes, type ByteString, textOf } from '../../../core/bytes.js';
import type { Family } from '../../../core/site/families/family.js';
import type { FilesPlace } from '../../../ends/files/place.js';
import { sha256Of } from '../../../ends/files/sums.js';
import { ledgerOf } from '../../move/ledger.js';
import { readSmall, treeOf } from '../../move/read-site.js';
import { noteDeed, type StepRun } from '../../move/step.js';
import { type StagingPaths, stagingOf } from './staging.js';

/** What a front file says while the site behind it is swapped. */
export const maintenancePage = asBytes(
  `<?php http_response_code(503); header('Retry-After: 10'); header('Cache-Control: no-store'); header('Content-Type: text/plain; charset=utf-8'); echo "Briefly unavailable for scheduled maintenance. Please try again in a minute.\\n"; exit;\n`,
);

/** So long, in milliseconds, PHP may go on with a front file that it has compiled before (opcache.revalidate_freq). */
export const untilSeen = { file: 300, entries: 2500 };

/**
 * A maintenance page at a site that is about to be swapped: the family's own, or one in place of its front files. Visitors
 * get the status 503 meanwhile.
 */
export class Gate {
  /** How long after `close` everybody sees the page, in milliseconds. */
  readonly delay: number;
  private readonly run: StepRun;
  private readonly staging: StagingPaths;
  private readonly paths: readonly ByteString[];
  private readonly content: ByteString;
  /** Whether the page takes the place of files that are there. */
  private readonly replaces: boolean;

  private constructor(
    run: StepRun,
    staging: StagingPaths,
    { paths, content, replaces }: { paths: readonly ByteString[]; content: ByteString; replaces: boolean },
  ) {
    this.run = run;
    this.staging = staging;
    this.paths = paths;
    this.content = content;
    this.replaces = replaces;
    this.delay = replaces ? untilSeen.entries : untilSeen.file;
  }

  /** The gate of a site; undefined where no site is there that could show a page. */
  static async at(run: StepRun, place: FilesPlace, family: Family): Promise<Gate | undefined> {
    const ledger = await ledgerOf(run.move);
    const staging = stagingOf(run.move, place, ledger);
    const begun = ledger.gates.get(place.text);
    const { maintenance, entryPoints } = family;
    const own = maintenance && 'file' in maintenance ? maintenance : undefined;
    if (begun !== undefined) {
      const paths = begun.map(path => asBytes(path));
      return new Gate(run, staging, { paths, content: own?.content ?? maintenancePage, replaces: !own });
    }
    const files = place.open();
    if (!(await files.isThere())) return undefined;
    const there = async (path: string) => (await files.entry(asBytes(path)))?.type === 'file';
    const isSite = (await Promise.all(entryPoints.map(there))).flatMap((is, i) =>
      is ? [entryPoints[i]!] : [],
    );
    if (isSite.length === 0) return undefined;
    if (!own)
      return new Gate(run, staging, {
        paths: isSite.map(path => asBytes(path)),
        content: maintenancePage,
        replaces: true,
      });
    // One that somebody has put there stays.
    if (await there(own.file)) return undefined;
    return new Gate(run, staging, { paths: [asBytes(own.file)], content: own.content, replaces: false });
  }

  /** Puts the page there. Safe to repeat. */
  async close(): Promise<void> {
    const { run, staging, paths } = this;
    const place = staging.place.text;
    const isBegun = (await ledgerOf(run.move)).gates.has(place);
    if (!isBegun) await noteDeed(run, 'deliver', { kind: 'gate closed', place, paths: [...paths] });
    const tree = treeOf(staging.place);
    await staging.end.makeFolder(staging.gate, 0o700);
    for (const path of paths) {
      const before = await readSmall(tree, textOf(path));
      if (before === this.content) continue;
      if (this.replaces && before !== undefined) {
        const like = await tree.files.entry(path);
        await staging.end.write(this.kept(path), Buffer.from(before, 'latin1'), like);
      }
      const waiting = asBytes(`${staging.gate}/new.${encodeURIComponent(textOf(path))}`);
      await staging.end.write(waiting, Buffer.from(this.content, 'latin1'));
      await staging.end.replace(waiting, this.at(path));
    }
  }

  /** Takes the page away, at the site and in what was swapped out meanwhile. Safe to repeat. */
  async open(): Promise<void> {
    const { run, staging } = this;
    const all = this.paths.flatMap(path =>
      [this.at(path), asBytes(`${staging.keepsake}/${path}`)].map(at => ({ path, at })),
    );
    const entries = await Promise.all(all.map(({ at }) => staging.end.entry(at)));
    const there = all.filter((_, i) => entries[i]?.type === 'file');
    const sums = await staging.end.checksums(
      there.map(({ at }) => at),
      run.signal,
    );
    for (const { path, at } of there) {
      if (sums.get(at) !== sha256Of(this.content)) continue;
      if (this.replaces && (await staging.end.entry(this.kept(path))))
        await staging.end.replace(this.kept(path), at);
      else await staging.end.remove(at);
    }
    await staging.end.remove(staging.gate);
    await noteDeed(run, 'deliver', { kind: 'gate opened', place: staging.place.text });
  }

  private at(path: ByteString): ByteString {
    const { staging } = this;
    return asBytes(staging.path === '' ? path : `${staging.path}/${path}`);
  }

  private kept(path: ByteString): ByteString {
    return asBytes(`${this.staging.gate}/${path}`);
  }
}

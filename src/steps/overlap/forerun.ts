import { textOf } from '../../core/bytes.js';
import type { FileEntry } from '../../core/files/entries.js';
import { saysStop } from '../../core/findings/findings.js';
import { isServerFile } from '../../core/site/configuration/server-files.js';
import type { Family } from '../../core/site/families/family.js';
import { type Content, chunksOf, type FileToWrite } from '../../ends/content.js';
import type { FilesEnd } from '../../ends/files/files-end.js';
import type { FilesPlace } from '../../ends/files/place.js';
import { clearOwnFolder, fetchableFindings } from '../deliver/files/own-folder.js';
import { openIncoming, topLevel } from '../deliver/files/staging.js';
import { openStaging } from '../deliver/files/swap.js';
import type { CarriesAhead, StepRun } from '../move/step.js';
import { copy, type TransferMethod } from '../transfer/transfer.js';

/** So many files may wait to be carried; the delivery carries those beyond. */
const mostWaiting = 4000;

/**
 * Carries files to the new end while others are still taken from the old one. They wait where a delivery puts them first,
 * out of visitors' reach, as after a delivery that was interrupted: the delivery compares each with the crate and carries
 * what is missing. Whatever goes wrong here is left to it.
 */
export class Forerun implements CarriesAhead {
  /** How many files were carried, and how. */
  files = 0;
  way: TransferMethod = 'file by file';
  private readonly run: StepRun;
  private readonly ending = new AbortController();
  private readonly signal: AbortSignal;
  private waiting: FileEntry[] = [];
  private isOver = false;
  private sleeping: (() => void)[] = [];
  private working: Promise<void> | undefined;
  private readonly bytes = { taken: 0, carried: 0 };

  constructor(run: StepRun) {
    this.run = run;
    this.signal = AbortSignal.any([run.signal, this.ending.signal]);
  }

  took(entry: FileEntry, family: Family | undefined): void {
    const place = this.run.move.newFiles;
    if (this.isOver || !place || place.isLocal || this.waiting.length >= mostWaiting) return;
    const isWritten = isServerFile(entry.path) || family?.configurationLike?.test(entry.path);
    const isMade = family?.generated.some(folder => entry.path.startsWith(folder));
    if (isWritten || isMade) return;
    this.waiting.push(entry);
    this.bytes.taken += entry.size;
    this.wake();
    this.working ??= this.carry(place).catch(() => {
      this.isOver = true;
    });
  }

  /** Waits until all that it was given is carried. */
  async finish(): Promise<void> {
    this.isOver = true;
    this.wake();
    await this.working;
    this.run.signal.throwIfAborted();
  }

  /** Ends it where nothing will be delivered. */
  async stop(): Promise<void> {
    this.isOver = true;
    this.ending.abort();
    this.wake();
    await this.working;
  }

  private async carry(place: FilesPlace): Promise<void> {
    const { run, signal } = this;
    // From host to host it is quicker when all is taken.
    if (place.hatch && run.move.oldFiles?.hatch) return this.giveUp();
    const staging = await openStaging({ ...run, signal }, place);
    const incoming = openIncoming(staging);
    // What an earlier run brought there the delivery knows how to resume.
    if ((await topLevel(incoming)).length > 0) return this.giveUp();
    if (saysStop(await fetchableFindings({ ...run, signal }, staging.folder))) {
      this.giveUp();
      await staging.end.remove(staging.incoming);
      return clearOwnFolder(run.move, staging.folder);
    }
    const streams = Math.min(run.rate.streams, incoming.streams);
    const carrying =
      incoming.writeMany && (incoming.gathers || (await incoming.runsCommands())) ? streams : 0;
    if (carrying > 0) {
      this.way = 'as one stream';
      await Promise.all(Array.from({ length: carrying }, () => this.stream(incoming)));
    }
    // Also where there is no such command after all.
    await Promise.all(Array.from({ length: incoming.atOnce }, () => this.oneByOne(incoming)));
  }

  private giveUp(): void {
    this.isOver = true;
    this.waiting = [];
  }

  private async stream(incoming: FilesEnd): Promise<void> {
    const { crate } = this.run.move;
    const files = async function* (this: Forerun): AsyncIterable<FileToWrite> {
      for (let entry = await this.next(); entry; entry = await this.next()) {
        if (!incoming.takesName(entry.path)) continue;
        yield { entry, content: this.passing(crate.files.read(entry.path), entry) };
      }
    };
    await incoming.writeMany!(files.call(this), this.signal);
  }

  private async oneByOne(incoming: FilesEnd): Promise<void> {
    const { rate, move } = this.run;
    const progress = { passed: () => {}, done: () => {} };
    for (let entry = await this.next(); entry; entry = await this.next()) {
      if (!incoming.takesName(entry.path)) continue;
      await copy({ from: move.crate.files, to: incoming, progress, rate }, entry, 0);
      this.carried(entry);
    }
  }

  private async *passing(content: Content, entry: FileEntry): AsyncIterable<Buffer> {
    for await (const chunk of chunksOf(content)) {
      await this.run.rate.take(chunk.length);
      yield chunk;
    }
    this.carried(entry);
  }

  private carried({ path, size }: FileEntry): void {
    this.files++;
    this.bytes.carried += size;
    this.run.events({
      type: 'progress',
      stream: 'ahead',
      what: textOf(path),
      done: this.bytes.carried,
      of: this.bytes.taken,
      unit: 'bytes',
      more: !this.isOver,
    });
  }

  private async next(): Promise<FileEntry | undefined> {
    for (;;) {
      this.signal.throwIfAborted();
      const entry = this.waiting.shift();
      if (entry || this.isOver) return entry;
      await new Promise<void>(resolve => this.sleeping.push(resolve));
    }
  }

  private wake(): void {
    for (const resolve of this.sleeping.splice(0)) resolve();
  }
}

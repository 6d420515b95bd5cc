import { type ByteString, textOf } from '../../core/bytes.js';
import type { FileEntry } from '../../core/files/entries.js';
import type { EventSink } from '../move/events.js';

/** How often progress is reported, in milliseconds. */
const every = 100;

/** How many files there are, and bytes in them; with `more` while they are still being listed. */
export interface ToTransfer {
  readonly files: number;
  readonly bytes: number;
  readonly more?: boolean;
}

/** Reports how far a transfer of files has come: files and bytes of all, and the file that is under way. */
export class TransferProgress {
  private readonly events: EventSink;
  private readonly all: () => ToTransfer;
  private readonly whole = { files: 0, bytes: 0 };
  /** Bytes that passed of files that are not whole yet. */
  private readonly parts = new Map<ByteString, number>();
  private last = 0;

  /** @param all gives what is to be transferred, as far as that is known */
  constructor(events: EventSink, all: () => ToTransfer) {
    this.events = events;
    this.all = all;
  }

  /** Bytes of a file passed; those of one that is begun again count once. */
  passed(entry: FileEntry, bytes: number): void {
    this.parts.set(entry.path, Math.min(entry.size, (this.parts.get(entry.path) ?? 0) + bytes));
    if (Date.now() - this.last >= every) this.report(entry);
  }

  done(entry: FileEntry): void {
    this.parts.delete(entry.path);
    this.whole.files++;
    this.whole.bytes += entry.size;
    if (Date.now() - this.last >= every || this.whole.files === this.all().files) this.report(entry);
  }

  private report({ path }: FileEntry): void {
    this.last = Date.now();
    const { files, bytes, more } = this.all();
    const passing = [...this.parts.values()].reduce((sum, bytes) => sum + bytes, 0);
    this.events({
      type: 'progress',
      what: textOf(path),
      done: this.whole.bytes + passing,
      of: bytes,
      unit: 'bytes',
      files: { done: this.whole.files, of: files },
      ...(more ? { more } : {}),
    });
  }
}

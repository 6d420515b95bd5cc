import { closeSync, fchmodSync, futimesSync, openSync, writeSync } from 'node:fs';
import { isMainThread, parentPort, Worker } from 'node:worker_threads';

/** A whole small file: its path (bytes held one a character), what it holds, its mode, and its time in milliseconds. */
interface SmallFile {
  readonly path: string;
  readonly content: Uint8Array;
  readonly mode: number;
  readonly mtime: number;
}

/** Writes a small file anew. @throws the file system's error, also where something stands there */
function writeSmallFile({ path, content, mode, mtime }: SmallFile): void {
  const file = openSync(Buffer.from(path, 'latin1'), 'wx', 0o600);
  try {
    for (let at = 0; at < content.length; ) at += writeSync(file, content, at, content.length - at);
    fchmodSync(file, mode);
    futimesSync(file, mtime / 1000, mtime / 1000);
  } finally {
    closeSync(file);
  }
}

/** So many are written before a thread is begun for them. */
const beforeThread = 64;

/**
 * Writes small files one after the other in a thread of their own, once there are many. Making a file costs more than
 * anything else that carrying it does here, and would keep the connection waiting.
 */
class SmallFiles {
  /** Undefined until there are many; false where it could not run. */
  private thread: Worker | false | undefined;
  private written = 0;
  private next = 0;
  private readonly pending = new Map<number, (error: NodeJS.ErrnoException | undefined) => void>();

  async write(file: SmallFile): Promise<void> {
    if (this.written++ >= beforeThread) this.thread ??= this.begin();
    if (!this.thread) return writeSmallFile(file);
    const told = await this.hand(this.thread, file);
    if (told === 'not run') return writeSmallFile(file);
    if (told) throw Object.assign(new Error(told.message), { code: told.code });
  }

  private hand(thread: Worker, file: SmallFile): Promise<NodeJS.ErrnoException | 'not run' | undefined> {
    const id = this.next++;
    if (this.pending.size === 0) thread.ref();
    // A copy of its own is handed over; what was given may be a part of something larger.
    const content = new Uint8Array(file.content);
    return new Promise(resolve => {
      this.pending.set(id, error => resolve(this.thread === false ? 'not run' : error));
      thread.postMessage({ id, file: { ...file, content } }, [content.buffer]);
    });
  }

  private begin(): Worker {
    // What was handed over is given back by its collections, which are to come often.
    const thread = new Worker(new URL(import.meta.url), { resourceLimits: { maxYoungGenerationSizeMb: 2 } });
    thread.unref();
    thread.on('message', ({ id, error }: { id: number; error?: NodeJS.ErrnoException }) => {
      const told = this.pending.get(id);
      this.pending.delete(id);
      if (this.pending.size === 0) thread.unref();
      told?.(error);
    });
    thread.on('error', () => {
      // There is no memory for it, or it is run from sources that it cannot read.
      this.thread = false;
      for (const told of this.pending.values()) told(undefined);
      this.pending.clear();
    });
    return thread;
  }
}

/** The writer of small files of this program. */
export const smallFiles = new SmallFiles();

if (!isMainThread) {
  parentPort?.on('message', ({ id, file }: { id: number; file: SmallFile }) => {
    try {
      writeSmallFile(file);
      parentPort!.postMessage({ id });
    } catch (error) {
      const { message, code } = error as NodeJS.ErrnoException;
      parentPort!.postMessage({ id, error: { message, code } });
    }
  });
}

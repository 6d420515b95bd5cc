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
  private thread: Worker | undefined;
  private written = 0;
  private next = 0;
  private readonly pending = new Map<number, { resolve(): void; reject(error: Error): void }>();

  async write(file: SmallFile): Promise<void> {
    if (this.written++ < beforeThread) {
      writeSmallFile(file);
      return;
    }
    this.thread ??= this.begin();
    const id = this.next++;
    if (this.pending.size === 0) this.thread.ref();
    // A copy of its own is handed over; what was given may be a part of something larger.
    const content = new Uint8Array(file.content);
    await new Promise<void>((resolve, reject) => {
      this.pending.set(id, { resolve, reject });
      this.thread!.postMessage({ id, file: { ...file, content } }, [content.buffer]);
    });
  }

  private begin(): Worker {
    // What was handed over is given back by its collections, which are to come often.
    const thread = new Worker(new URL(import.meta.url), { resourceLimits: { maxYoungGenerationSizeMb: 2 } });
    thread.unref();
    thread.on('message', ({ id, error }: { id: number; error?: NodeJS.ErrnoException }) => {
      const waiting = this.pending.get(id);
      this.pending.delete(id);
      if (this.pending.size === 0) thread.unref();
      if (error) waiting?.reject(Object.assign(new Error(error.message), { code: error.code }));
      else waiting?.resolve();
    });
    thread.on('error', error => {
      for (const waiting of this.pending.values()) waiting.reject(error);
      this.pending.clear();
      this.thread = undefined;
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

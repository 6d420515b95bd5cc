import type { FileEntryWithStats, SFTPWrapper, Stats } from 'ssh2';
import { toPorterError } from '../system-errors.js';

/** What every server takes in one request (draft-ietf-secsh-filexfer-02, section 3). */
export const piece = 32 * 1024;
/** Requests under way at once for one file. */
export const ahead = 32;

export type Callback<T> = (error: Error | undefined | null, value: T) => void;

/** One request of the protocol as a promise. */
export function call<T>(work: (done: Callback<T>) => void): Promise<T> {
  return new Promise((resolve, reject) => {
    work((error, value) => (error ? reject(error) : resolve(value)));
  });
}

/** Status codes of the protocol, as the file system's own (draft-ietf-secsh-filexfer-02, section 7). */
const codes: Readonly<Record<number, string>> = { 2: 'ENOENT', 3: 'EACCES', 14: 'ENOSPC', 15: 'EDQUOT' };

/** Whether a request failed because nothing is there. */
export function isMissing(error: unknown): boolean {
  return (error as { code?: unknown }).code === 2;
}

export function ignoreMissing(error: unknown): undefined {
  if (!isMissing(error)) throw error;
}

/** The toSftpError behind a failed request. */
export function toSftpError(error: unknown, doing: string): unknown {
  const { code, message } = error as { code?: unknown; message?: string };
  if (typeof code !== 'number') return toPorterError(error, doing);
  const known = codes[code];
  if (known) return toPorterError(Object.assign(new Error(message), { code: known }), doing);
  const why = code === 4 ? 'the far side says only "Failure"; its disk or quota may be full' : message;
  return toPorterError(Object.assign(new Error(why), { code: `SFTP${code}` }), doing);
}

/** The next names of a folder, or undefined after the last. */
export function readPart(sftp: SFTPWrapper, handle: Buffer): Promise<FileEntryWithStats[] | undefined> {
  return new Promise((resolve, reject) => {
    sftp.readdir(handle, (error, list) => {
      if (!error) resolve(list);
      else if ((error as { code?: number }).code === 1) resolve(undefined);
      else reject(error);
    });
  });
}

/** A file that is being read: pieces are asked for ahead of their turn, and given in their order as they come. */
export class ReadAhead {
  private readonly sftp: SFTPWrapper;
  private readonly handle: Buffer;
  /** Up to where pieces were given. */
  private at: number;
  private asked: number;
  private pieces: AskedPiece[] = [];
  /** Asked for along with the first pieces, so that a small file's end is known at once. */
  private readonly size: Promise<number>;
  private expected = 0;
  private ended = false;

  constructor(sftp: SFTPWrapper, handle: Buffer, from: number) {
    this.sftp = sftp;
    this.handle = handle;
    this.at = from;
    this.asked = from;
    this.ask(2);
    this.size = call<Stats>(done => sftp.fstat(handle, done)).then(({ size }) => size);
    // Whoever waits for it hears of its error.
    this.size.catch(() => {});
  }

  /** What has come, at least one piece; undefined after the end. */
  async next(): Promise<Buffer[] | undefined> {
    if (this.ended) return undefined;
    const chunks: Buffer[] = [];
    do {
      const { chunk, end } = await this.pieces.shift()!.coming;
      this.expected = await this.size;
      this.at += chunk.length;
      if (chunk.length > 0) chunks.push(chunk);
      if (end || (chunk.length < piece && this.at >= this.expected)) this.ended = true;
      else if (chunk.length < piece) {
        // A server may give less than was asked for; the rest is asked for again.
        this.pieces = [];
        this.asked = this.at;
      }
      if (!this.ended) this.ask(ahead);
    } while (!this.ended && this.pieces[0]?.here && chunks.length < ahead);
    return chunks;
  }

  /** Keeps so many pieces coming, up to one beyond what the size says. */
  private ask(most: number): void {
    while (this.pieces.length < most && (this.pieces.length < 2 || this.asked <= this.expected)) {
      const asked: AskedPiece = { coming: readPiece(this.sftp, this.handle, this.asked), here: false };
      asked.coming.then(
        () => {
          asked.here = true;
        },
        // The first that fails says why.
        () => {},
      );
      this.pieces.push(asked);
      this.asked += piece;
    }
  }
}

interface AskedPiece {
  readonly coming: Promise<{ chunk: Buffer; end: boolean }>;
  here: boolean;
}

function readPiece(sftp: SFTPWrapper, handle: Buffer, at: number): Promise<{ chunk: Buffer; end: boolean }> {
  const buffer = Buffer.allocUnsafe(piece);
  return new Promise((resolve, reject) => {
    sftp.read(handle, buffer, 0, piece, at, (error, count) => {
      if (error && (error as { code?: number }).code !== 1) reject(error);
      else if (error || count === 0) resolve({ chunk: buffer.subarray(0, 0), end: true });
      else resolve({ chunk: buffer.subarray(0, count), end: false });
    });
  });
}

/** Waits for requests that are all on their way. @throws the error of the first that was refused */
export async function allInOrder(...requests: readonly Promise<void>[]): Promise<void> {
  for (const one of await Promise.allSettled(requests)) if (one.status === 'rejected') throw one.reason;
}

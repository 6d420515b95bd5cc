import type { Attributes, SFTPWrapper } from 'ssh2';
import type { FileEntry } from '../../core/files/entries.js';
import { ahead, call, isMissing } from './requests.js';

/** Bytes that surely go in one packet. */
const surelyOne = 28 * 1024;

/** A file that is being written: what was not acknowledged is kept, to be sent again after a lost connection. */
export class RemoteFileWriter {
  private readonly path: string;
  private readonly like: Pick<FileEntry, 'mode' | 'mtime'> | undefined;
  private pending: Buffer[] = [];
  private offset: number;
  private handle: { sftp: SFTPWrapper; handle: Buffer } | undefined;

  /** @param from the offset at which a file that is there already is resumed; 0 for one again */
  constructor(path: string, like: Pick<FileEntry, 'mode' | 'mtime'> | undefined, from: number) {
    this.path = path;
    this.like = like;
    this.offset = from;
  }

  get full(): boolean {
    return this.pending.length >= ahead;
  }

  add(chunk: Buffer): void {
    // The source may use its buffer again.
    this.pending.push(Buffer.from(chunk));
  }

  /** Sends what is pending; with `last`, sets mode and time and closes. Safe to do again over another connection. */
  async send(sftp: SFTPWrapper, last: boolean): Promise<void> {
    const handle = await this.open(sftp);
    let at = this.offset;
    const sent = this.pending.map(chunk => {
      const start = at;
      at += chunk.length;
      return call<void>(done => sftp.write(handle, chunk, 0, chunk.length, start, done));
    });
    // It is on its way before those are answered: a server does what concerns one file in order. Larger pieces the
    // package may send in two, of which the second waits for the answer to the first.
    const goesAlong = this.pending.every(({ length }) => length <= surelyOne);
    const along = last && goesAlong ? this.ending(sftp, handle) : undefined;
    for (const one of [...sent, ...(along ?? [])]) one.catch(() => {});
    for (const one of sent) {
      await one;
      // What is acknowledged need not be sent again after a lost connection.
      this.offset += this.pending.shift()!.length;
    }
    if (last) await Promise.all(along ?? this.ending(sftp, handle));
  }

  /** Sets mode and time, and closes. */
  private ending(sftp: SFTPWrapper, handle: Buffer): Promise<void>[] {
    const { like } = this;
    const seconds = like && Math.floor(like.mtime / 1000);
    const attributes = like ? { mode: like.mode, atime: seconds!, mtime: seconds! } : { mode: 0o644 };
    return [
      call<void>(done => sftp.fsetstat(handle, attributes as never, done)),
      call<void>(done => sftp.close(handle, done)),
    ];
  }

  private async open(sftp: SFTPWrapper): Promise<Buffer> {
    if (this.handle?.sftp === sftp) return this.handle.handle;
    // A new file, never through a link or into one that is there; after a lost connection, into our own.
    const again = this.handle !== undefined || this.offset > 0;
    const opening = (flags: 'wx' | 'r+') =>
      call<Buffer>(done => sftp.open(this.path, flags, { mode: 0o600 } as Attributes, done));
    let handle: Buffer;
    try {
      handle = await opening(again ? 'r+' : 'wx');
    } catch (error) {
      if (isMissing(error) || again) throw error;
      await call<void>(done => sftp.unlink(this.path, done));
      handle = await opening('wx');
    }
    this.handle = { sftp, handle };
    return handle;
  }
}

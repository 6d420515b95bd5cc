import type { ByteString } from '../../core/bytes.js';
import type { FileEntry } from '../../core/files/entries.js';

/** A place for files, whatever protocol reaches it. Paths are relative to it and never leave it. */
export interface FilesEnd {
  /** As the sheet names it, for messages. */
  readonly place: string;
  /** Everything below, a folder before what is in it, in a fixed order. What `skip` says is not entered. */
  list(skip: (entry: FileEntry) => boolean, signal: AbortSignal): AsyncIterable<FileEntry>;
  /** The entry at a path, or undefined where nothing is. A link is told as a link. */
  entry(path: ByteString): Promise<FileEntry | undefined>;
  read(path: ByteString): AsyncIterable<Buffer>;
  /** Writes a whole file, making the folders above it; mode and time are set when given. */
  write(
    path: ByteString,
    content: AsyncIterable<Buffer>,
    like?: Pick<FileEntry, 'mode' | 'mtime'>,
  ): Promise<void>;
  makeFolder(path: ByteString, mode: number): Promise<void>;
  makeLink(path: ByteString, to: ByteString): Promise<void>;
  /** Sets the mode and time of a folder, once nothing more is put into it. */
  finishFolder(path: ByteString, like: Pick<FileEntry, 'mode' | 'mtime'>): Promise<void>;
  remove(path: ByteString): Promise<void>;
}

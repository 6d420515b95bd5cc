import type { ByteString } from '../../core/bytes.js';
import type { FileEntry, ListedEntry } from '../../core/files/entries.js';
import type { Content, FileToWrite } from '../content.js';

/** A place for files, whatever protocol reaches it. Paths are relative to it and never leave it. */
export interface FilesEnd {
  /** As the sheet names it, for messages. */
  readonly place: string;
  /** Whether a network is between. */
  readonly far: boolean;
  /** How many files are best worked on at once. */
  readonly atOnce: number;
  /** How many streams of files are best taken or given at once. */
  readonly streams: number;
  /** Whether a file that is there in part can be resumed; some servers let nobody append. */
  readonly canResume: boolean;
  /** Whether files get the times that they are written with, as far as is known; left out where they do. */
  readonly setsTimes?: boolean;
  /** Whether names that are not UTF-8 come through. */
  readonly namesAreBytes: boolean;
  /** Whether files are put together into larger pieces on their way, also without commands. */
  readonly gathers?: boolean;
  /** Whether symbolic links can be made. */
  readonly makesLinks: boolean;
  /** Whether a name can be sent to the end at all. */
  takesName(path: ByteString): boolean;
  /** Whether commands can be run where the files lie. */
  runsCommands(): Promise<boolean>;
  /** Bytes and files for which there is room, where the end can say; nothing is known of a place that is not there. */
  room(): Promise<{ readonly bytes: number; readonly files: number | undefined } | undefined>;
  /** Whether the place itself is there, as a folder. */
  isThere(): Promise<boolean>;
  /**
   * Everything below in the order of the paths' bytes, without what `skip` says; it may be asked again before a folder
   * is entered.
   * @param untaken is called with what is no part of it: sockets, named pipes, devices, names that lead elsewhere
   */
  list(
    skip: (entry: FileEntry) => boolean,
    signal: AbortSignal,
    untaken?: (entry: ListedEntry) => void,
  ): AsyncIterable<FileEntry>;
  /** The entry at a path, or undefined where nothing is. A link is reported as a link. */
  entry(path: ByteString): Promise<FileEntry | undefined>;
  /** The entries at several paths, in their order, where it takes less to ask for them together. */
  entriesAt?(paths: readonly ByteString[]): Promise<readonly (FileEntry | undefined)[]>;
  /** @param from the offset to begin at */
  read(path: ByteString, from?: number): AsyncIterable<Buffer>;
  /** SHA-256 of files, in hex, by path; of one that is not there, nothing. */
  checksums(paths: readonly ByteString[], signal: AbortSignal): Promise<ReadonlyMap<ByteString, string>>;
  /** Several files as one stream, in any order, where the end can give one; each is read before the next comes. */
  readMany?(
    paths: readonly ByteString[],
    signal: AbortSignal,
  ): Promise<
    AsyncIterable<{ readonly path: ByteString; readonly content: AsyncIterable<Buffer> }> | undefined
  >;
  /**
   * Begins, where that takes long, with streams that are soon to be read.
   * @returns what ends those that nobody asked for
   */
  beginStreams?(most: number): () => void;
  /**
   * Takes several files and folders as one stream, where the end can; gives whether it could. The folders above each are
   * there, or come before it.
   */
  writeMany?(files: AsyncIterable<FileToWrite>, signal: AbortSignal): Promise<boolean>;
  /**
   * Takes files straight from another end, where both can do that; gives whether they can.
   * @param came is called with each that came; it is to be compared like any other
   */
  fetchMany?(
    from: FilesEnd,
    files: readonly FileEntry[],
    signal: AbortSignal,
    came: (file: FileEntry) => void,
  ): Promise<boolean>;
  /**
   * Writes a file, making the folders above it; mode and time are set when given, once it is whole.
   * @param from the offset at which to continue with a file that is there; the content is what follows
   */
  write(
    path: ByteString,
    content: Content,
    like?: Pick<FileEntry, 'mode' | 'mtime'>,
    from?: number,
  ): Promise<void>;
  makeFolder(path: ByteString, mode: number): Promise<void>;
  makeLink(path: ByteString, to: ByteString): Promise<void>;
  /** Sets the mode and time of a folder, once nothing more is put into it. */
  finishFolder(path: ByteString, like: Pick<FileEntry, 'mode' | 'mtime'>): Promise<void>;
  /** Removes a file, or a folder with all in it; nothing where nothing is. */
  remove(path: ByteString): Promise<void>;
  /** Gives something another name; nothing may be there. */
  rename(from: ByteString, to: ByteString): Promise<void>;
  /**
   * Gives what is at `to` the name `aside` and what is at `from` the name `to`, as close to one another as the end can:
   * where both are asked for together, nobody sees an empty place. Where it fails, `to` is as it was.
   */
  exchange(from: ByteString, to: ByteString, aside: ByteString): Promise<void>;
  /** Puts a file under another name, in place of a file that is there. */
  replace(from: ByteString, to: ByteString): Promise<void>;
}

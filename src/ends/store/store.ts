/** A file on this machine that is to be stored. It does not change any more. */
export interface FileToStore {
  readonly file: string;
  readonly bytes: number;
  /** In hex. */
  readonly sha256: string;
}

/** How something is stored. */
export interface StoreOptions {
  readonly signal: AbortSignal;
  /** Receives the bytes that are stored of it by now. */
  readonly progress: (bytes: number) => void;
  /** A file on this machine that may hold what is needed to continue, for as long as the file to store is there. */
  readonly note: string;
}

/** What is in a folder of a store. */
export interface StoredFile {
  readonly name: string;
  readonly bytes: number;
}

/**
 * An offsite place: folders of files, one level deep. Names are judged by whoever asks for them; none of them holds a slash.
 */
export interface Store {
  /** As the sheet names it, without a password. */
  readonly text: string;
  folders(signal: AbortSignal): Promise<readonly string[]>;
  files(folder: string, signal: AbortSignal): Promise<readonly StoredFile[]>;
  /** A small file; undefined where it is not there. @throws DamageError where it is larger than `most` bytes */
  small(folder: string, name: string, most: number, signal: AbortSignal): Promise<Buffer | undefined>;
  /** @param from the offset to begin at */
  read(folder: string, name: string, from: number, signal: AbortSignal): AsyncIterable<Buffer>;
  /** Stores a small file whole or not at all. */
  write(folder: string, name: string, content: Buffer, signal: AbortSignal): Promise<void>;
  /**
   * Stores a file, continuing where an interrupted run ended. It has its name when all of it is there.
   * @throws DamageError where something else arrived
   */
  put(folder: string, name: string, file: FileToStore, options: StoreOptions): Promise<void>;
  remove(folder: string, name: string, signal: AbortSignal): Promise<void>;
  /** Removes what is left of a folder that holds no files any more. */
  removeFolder(folder: string, signal: AbortSignal): Promise<void>;
  close(): Promise<void>;
}

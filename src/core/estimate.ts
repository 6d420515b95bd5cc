/** How fast an end is: seconds for each file, and bytes a second. */
export interface Rate {
  readonly perFile: number;
  readonly bytesPerSecond: number;
}

/** What there is to carry, and how fast that went in a small trial. */
export interface Load {
  readonly files: number;
  readonly bytes: number;
  readonly read: Rate | undefined;
  readonly write: Rate | undefined;
  /** Bytes of the dump, and seconds that looking through it took. */
  readonly dump: { readonly bytes: number; readonly seconds: number } | undefined;
}

/** How long the parts of a move will take, in seconds; undefined where there was no trial. */
export interface Estimate {
  readonly pack: number | undefined;
  readonly rewrite: number | undefined;
  readonly deliver: number | undefined;
  readonly check: number | undefined;
  /**
   * How long visitors would see maintenance: the files are there already, and what changed since, the database and the
   * check remain. Loading the dump by other means comes on top.
   */
  readonly maintenance: number | undefined;
}

/** Rewriting reads each byte, looks at it more closely, and packs it again. */
const rewritingToReading = 3;
/** The part of a site's files that changes between a first and a last pass. */
const changing = 0.02;

/** Estimates a move's times from a trial. */
export function estimate({ files, bytes, read, write, dump }: Load): Estimate {
  const transfer = (rate: Rate | undefined, part = 1) =>
    rate && part * (files * rate.perFile + bytes / rate.bytesPerSecond);
  const database = dump && { take: dump.seconds, rewrite: dump.seconds * rewritingToReading };
  const sum = (...parts: (number | undefined)[]) =>
    parts.includes(undefined) ? undefined : parts.reduce<number>((total, part) => total + part!, 0);
  const pack = sum(transfer(read), database?.take ?? 0);
  const deliver = sum(transfer(read), transfer(write));
  const check = sum(transfer(read), (database?.take ?? 0) * 2);
  const listing = read && files * read.perFile;
  return {
    pack,
    rewrite: database?.rewrite ?? 0,
    deliver,
    check,
    maintenance: sum(
      listing,
      transfer(read, changing),
      transfer(write, changing),
      database?.take ?? 0,
      database?.rewrite ?? 0,
      check,
    ),
  };
}

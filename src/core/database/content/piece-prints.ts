/** What is known of a piece of a table's rows. */
export interface PiecePrints {
  readonly rows: number;
  /** The sum of their digests (see `ContentDigest`). */
  readonly sum: Buffer;
  /** Their fingerprints (see `RowPrints`). */
  readonly prints: Buffer;
}

/** Bytes of the digest of a piece. */
export const digestBytes = 32;

/** Knows pieces of rows of which the fingerprints were taken before, by their digests. */
export interface PieceMemory {
  find(digest: Buffer): PiecePrints | undefined;
  /** Keeps what is known for the next time. Its bytes are only good until this ends. */
  keep(digest: Buffer, prints: PiecePrints): void;
}

/** Rows of a table as they are in the dump, whose fingerprints had to be taken. */
export interface RowsAsText {
  readonly table: string;
  /** The columns in whose order their cells are. */
  readonly columns: readonly string[];
  readonly backslash: boolean;
  readonly bytes: Buffer;
}

/** Bytes of rows that are remembered. */
const mostRemembered = 48 * 1024 * 1024;

/** Remembers rows as they are in a dump, as long as they are not too many. */
export class RememberedRows {
  private pieces: RowsAsText[] | undefined = [];
  private bytes = 0;

  add(piece: RowsAsText): void {
    this.bytes += piece.bytes.length;
    if (this.bytes > mostRemembered) this.pieces = undefined;
    this.pieces?.push({ ...piece, bytes: Buffer.from(piece.bytes) });
  }

  /** Undefined where they were too many. */
  all(): readonly RowsAsText[] | undefined {
    return this.pieces;
  }
}

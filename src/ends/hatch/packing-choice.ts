type Way = 'packed' | 'plain';

/** After so many answers the other way is tried once. */
const tryAgainAfter = 24;
/** Shorter answers say nothing of the line, in bytes. */
const leastBytes = 512 * 1024;

/**
 * Whether long answers come sooner packed: over a slow line they do; over a fast one, packing takes longer than what it
 * saves, and what is packed already (pictures) only gets longer. Both ways are tried.
 */
export class PackingChoice {
  /** Bytes a second, before packing. */
  private readonly rates: Partial<Record<Way, number>> = {};
  private since = 0;

  /** Whether the next answer is to be packed. */
  next(): boolean {
    const { packed, plain } = this.rates;
    if (packed === undefined || plain === undefined) return packed === undefined;
    const isBetter = packed > plain;
    return ++this.since % tryAgainAfter === 0 ? !isBetter : isBetter;
  }

  /** Takes in an answer. @param bytes before packing */
  came(isPacked: boolean, bytes: number, seconds: number): void {
    if (bytes < leastBytes) return;
    const way = isPacked ? 'packed' : 'plain';
    const rate = bytes / seconds;
    const before = this.rates[way] ?? rate;
    this.rates[way] = (before + rate) / 2;
  }
}

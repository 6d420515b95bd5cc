/** Bytes of a part: what is asked for at a time, and verified by its checksum. */
export const partBytes = 8 * 1024 * 1024;

/** How far the parts of what is collected have come. */
export class Received {
  private readonly reached = new Map<number, number>();
  private readonly whole = new Set<number>();

  /** @param lines as `lineOf` writes them; one that was cut short says nothing */
  constructor(lines: Iterable<string>) {
    for (const line of lines) {
      const [, part, bytes, end] = /^(\d+) (\d+)( whole| again)?$/.exec(line) ?? [];
      if (part !== undefined) this.take(Number(part), Number(bytes), end?.trim());
    }
  }

  /** Bytes of a part that are there, from its beginning. */
  of(part: number): number {
    return this.reached.get(part) ?? 0;
  }

  isWhole(part: number): boolean {
    return this.whole.has(part);
  }

  /** The parts that claim more than a file of so many bytes can hold. */
  beyond(bytes: number): number[] {
    const isBeyond = ([part, reached]: readonly [number, number]) =>
      reached > 0 && part * partBytes + reached > bytes;
    return [...this.reached].filter(isBeyond).map(([part]) => part);
  }

  get bytes(): number {
    let sum = 0;
    for (const bytes of this.reached.values()) sum += bytes;
    return sum;
  }

  /** Takes no part for whole any more, since another may offer something else. @returns the lines for what is there */
  doubt(): string {
    return [...this.reached].map(([part, bytes]) => this.take(part, bytes)).join('');
  }

  /** Takes in how far a part is; `whole` where its checksum was right, `again` where it was not. @returns the line for it */
  take(part: number, bytes: number, end?: string): string {
    this.whole.delete(part);
    if (end === 'again') this.reached.delete(part);
    else this.reached.set(part, bytes);
    if (end === 'whole') this.whole.add(part);
    return `${part} ${bytes}${end === undefined ? '' : ` ${end}`}\n`;
  }
}

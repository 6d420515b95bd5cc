/** Lines of our own in a file that others write too, between two lines that name what they are. */
export class MarkedBlock {
  private readonly begin: string;
  private readonly end: string;

  /** @param name what the lines are; they are comments of a file in which a comment begins with `#` */
  constructor(name: string) {
    this.begin = `# Able Porter: ${name}, begin`;
    this.end = `# Able Porter: ${name}, end`;
  }

  /** Where the block is in a file, with its last line end; undefined where there is none. */
  in(text: string): { readonly start: number; readonly end: number } | undefined {
    const start = text.indexOf(this.begin);
    const stop = start < 0 ? -1 : text.indexOf(this.end, start);
    if (stop < 0) return undefined;
    const [lineEnd] = /^(?:\r?\n)?/.exec(text.slice(stop + this.end.length))!;
    return { start, end: stop + this.end.length + lineEnd.length };
  }

  /** The content of a file without the block, if it has one. @param text one character a byte */
  without(text: string): string {
    const block = this.in(text);
    return block ? text.slice(0, block.start) + text.slice(block.end) : text;
  }

  /** The same with the block at the top, in place of the one that it has. */
  with(text: string, lines: string): string {
    return `${this.begin}\n${lines.endsWith('\n') ? lines : `${lines}\n`}${this.end}\n${this.without(text)}`;
  }
}

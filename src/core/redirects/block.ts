/** Lines between which redirects are in a file that others write too. */
const begin = '# Able Porter: redirects of the move, begin';
const end = '# Able Porter: redirects of the move, end';

/** Where the block of redirects is in a file, with its last line end; undefined where there is none. */
export function blockIn(text: string): { readonly start: number; readonly end: number } | undefined {
  const start = text.indexOf(begin);
  const stop = start < 0 ? -1 : text.indexOf(end, start);
  if (stop < 0) return undefined;
  const [lineEnd] = /^(?:\r?\n)?/.exec(text.slice(stop + end.length))!;
  return { start, end: stop + end.length + lineEnd.length };
}

/** The content of a file without the block of redirects, if it has one. @param text one character a byte */
export function withoutBlock(text: string): string {
  const block = blockIn(text);
  return block ? text.slice(0, block.start) + text.slice(block.end) : text;
}

/** The same with redirects at the top, in place of those that it has. */
export function withBlock(text: string, rules: string): string {
  return `${begin}\n${rules.endsWith('\n') ? rules : `${rules}\n`}${end}\n${withoutBlock(text)}`;
}

/** Whether a file has such a block. */
export function hasBlock(text: string): boolean {
  return blockIn(text) !== undefined;
}

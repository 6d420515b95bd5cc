import Table from 'cli-table3';
import pc from 'picocolors';
import stringWidth from 'string-width';
import { showable } from '../../core/text/display.js';

/** Rows under heads, with a thin rule between; numbers to the right where `right` names their columns. */
export function table(
  heads: readonly string[],
  rows: readonly (readonly string[])[],
  right: readonly number[] = [],
): string {
  const drawn = new Table({
    head: heads.map(head => pc.dim(head)),
    colAligns: heads.map((_, i) => (right.includes(i) ? 'right' : 'left')),
    style: { head: [], border: [], 'padding-left': 0, 'padding-right': 2 },
    chars: {
      top: '',
      'top-mid': '',
      'top-left': '',
      'top-right': '',
      bottom: '',
      'bottom-mid': '',
      'bottom-left': '',
      'bottom-right': '',
      left: '  ',
      'left-mid': '',
      mid: '',
      'mid-mid': '',
      right: '',
      'right-mid': '',
      middle: '',
    },
  });
  for (const row of rows) drawn.push(row.map(cell => cell));
  return `${drawn.toString().replace(/[ \t]+$/gm, '')}\n`;
}

/** Text from a site made safe to show, and cut to a width in columns: some characters take two. */
export function cut(text: string, width: number): string {
  const safe = showable(text);
  if (stringWidth(safe) <= width) return safe;
  let kept = '';
  for (const { segment } of new Intl.Segmenter().segment(safe)) {
    if (stringWidth(kept + segment) > width - 1) break;
    kept += segment;
  }
  return `${kept}…`;
}

/** The columns of the terminal, or of what shows the output later. */
export function terminalColumns(): number {
  return process.stdout.columns ?? (Number(process.env.COLUMNS) || usualColumns);
}

const usualColumns = 110;

/** The same, cut to a part of the terminal's width. @param width columns where the terminal has 110 */
export function fit(text: string, width: number): string {
  const scale = Math.min(1.6, Math.max(0.7, terminalColumns() / usualColumns));
  return cut(text, Math.floor(width * scale));
}

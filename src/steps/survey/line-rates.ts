import type { Rate } from '../../core/estimate.js';
import type { Move } from '../move/open.js';
import { readResult } from '../move/step.js';

/** How fast the lines to both ends were in the survey's trial; undefined where none was made. */
export interface LineRates {
  readonly old: Rate | undefined;
  readonly new: Rate | undefined;
}

/** Bytes a second below which a line is slower than compression: programs and text become a quarter. */
const slow = 4_000_000;

/** Compresses what passes over lines that were slow in a survey's trial. Nothing may be under way on them. */
export function compressSlowLines({ oldPlace, newFiles }: Move, rates: LineRates | undefined): void {
  const isSlow = (rate: Rate | undefined) => rate !== undefined && rate.bytesPerSecond < slow;
  if (isSlow(rates?.old)) oldPlace?.ssh?.compress();
  if (isSlow(rates?.new)) newFiles?.ssh?.compress();
}

/** The same with what the last survey saw, if there was one. */
export async function compressLinesSeenSlow(move: Move): Promise<void> {
  if (!move.oldPlace?.ssh && !move.newFiles?.ssh) return;
  const seen = await readResult<{ rates?: LineRates }>(move.folder, 'survey').catch(() => undefined);
  compressSlowLines(move, seen?.result.rates);
}

import type { Rate } from '../../core/estimate.js';
import type { FilesPlace } from '../../ends/files/place.js';
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
function compressSlowLines({ oldPlace, newFiles }: Move, rates: LineRates): void {
  const lines: readonly (readonly [FilesPlace | undefined, Rate | undefined])[] = [
    [oldPlace, rates.old],
    [newFiles, rates.new],
  ];
  for (const [place, rate] of lines) if (rate && rate.bytesPerSecond < slow) place?.ssh?.compress();
}

/** The same with what the last survey saw, if there was one. */
export async function compressLinesSeenSlow(move: Move): Promise<void> {
  const seen = await readResult<{ rates?: LineRates }>(move.folder, 'survey').catch(() => undefined);
  if (seen?.result.rates) compressSlowLines(move, seen.result.rates);
}

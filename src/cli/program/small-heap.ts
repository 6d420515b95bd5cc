import { setFlagsFromString } from 'node:v8';
import { runInNewContext } from 'node:vm';

/**
 * Keeps the heap small, for a process that mostly passes data on and ends after that. What it passes on is large and
 * short-lived, but its handles are small: a young generation that grows fills late, and all that the handles hold waits
 * for that. The old generation is collected when it has grown by 60 %; for that to be known, it is collected once.
 *
 * V8 knows these settings for the whole process only, so a command may set them, a step may not: rewriting needs the
 * large young generation.
 */
export function keepHeapSmall(): void {
  setFlagsFromString('--semi-space-growth-factor=1');
  setFlagsFromString('--heap-growing-percent=60');
  setFlagsFromString('--expose-gc');
  const collect = runInNewContext('gc') as () => void;
  collect();
}

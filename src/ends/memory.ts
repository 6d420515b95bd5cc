import { setFlagsFromString } from 'node:v8';
import { runInNewContext } from 'node:vm';

/**
 * Keeps memory low where a step mostly passes things on. What it passes is large and short-lived, but its handles are
 * small: a larger nursery, in which everything new is put, fills late, and all that they hold waits for that. What has left
 * the nursery is collected when it has grown by so much of what was alive; for that to be known, all is collected once.
 */
export function keepMemoryLow(): void {
  setFlagsFromString('--semi-space-growth-factor=1');
  setFlagsFromString('--heap-growing-percent=60');
  setFlagsFromString('--expose-gc');
  const collect = runInNewContext('gc') as () => void;
  collect();
}

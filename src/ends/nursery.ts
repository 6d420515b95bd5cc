import { setFlagsFromString } from 'node:v8';

/**
 * Keeps the part of the memory from growing in which everything new is put. What a step only passes on is large and
 * short-lived: its handles are small, so a larger nursery fills late, and all that they hold waits for that.
 */
export function keepNurserySmall(): void {
  setFlagsFromString('--semi-space-growth-factor=1');
}

import { spawnSync } from 'node:child_process';
import type { TestContext } from 'node:test';

/** Whether the real peers must be there (as in continuous integration), so that no test may be skipped for want of one. */
export const realRequired = process.env.ABLE_PORTER_REAL === 'required';

/**
 * Skips a test where a program that it asks is not installed; fails it where real peers are required.
 * @returns whether the test can continue
 */
export function needs(t: TestContext, ...programs: string[]): boolean {
  const missing = programs.filter(name => spawnSync('which', [name]).status !== 0);
  if (missing.length === 0) return true;
  if (realRequired) throw new Error(`${missing.join(', ')} must be installed for this test`);
  t.skip(`needs ${missing.join(', ')}`);
  return false;
}

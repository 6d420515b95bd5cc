import assert from 'node:assert/strict';
import { execFileSync, spawnSync } from 'node:child_process';
import { mkdtempSync, rmSync } from 'node:fs';
import { tmpdir } from 'node:os';
import { join } from 'node:path';
import type { TestContext } from 'node:test';
import { realRequired } from './real.js';

/** A disk of its own, of some size (as `mount` takes it); left out where none can be mounted. */
export function smallDisk(
  t: TestContext,
  size: string,
): { folder: string; grow(size: string): void } | undefined {
  const folder = mkdtempSync(join(tmpdir(), 'able-porter-small-'));
  const isMounted = spawnSync('mount', ['-t', 'tmpfs', '-o', `size=${size}`, 'tmpfs', folder]).status === 0;
  t.after(() => {
    if (isMounted) execFileSync('umount', [folder]);
    rmSync(folder, { recursive: true });
  });
  if (isMounted)
    return {
      folder,
      grow: more => {
        execFileSync('mount', ['-o', `remount,size=${more}`, folder]);
      },
    };
  assert.ok(!realRequired, 'a small tmpfs must be had here');
  t.skip('a small tmpfs cannot be mounted here');
  return undefined;
}

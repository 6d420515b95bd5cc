import { readdirSync, readFileSync } from 'node:fs';
import type { TestContext } from 'node:test';

/** Looks at the command lines of all processes again and again until the test ends; gives what was seen so far. */
export function watchCommandLines(t: TestContext): () => string {
  const seen = new Set<string>();
  const look = () => {
    for (const name of readdirSync('/proc').filter(one => /^\d+$/.test(one))) {
      try {
        seen.add(readFileSync(`/proc/${name}/cmdline`, 'utf8'));
      } catch {
        // It has ended meanwhile.
      }
    }
  };
  const watching = setInterval(look, 20);
  t.after(() => clearInterval(watching));
  return () => {
    look();
    return [...seen].join('\n');
  };
}

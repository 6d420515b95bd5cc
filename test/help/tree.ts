import { createHash } from 'node:crypto';
import { lstatSync, readdirSync, readFileSync, readlinkSync } from 'node:fs';

/** Everything about a tree that a move must keep. */
export function treeOf(root: string): string[] {
  const lines: string[] = [];
  const walk = (path: Buffer, shown: string) => {
    for (const name of readdirSync(path, { encoding: 'buffer' }).sort(Buffer.compare)) {
      const full = Buffer.concat([path, Buffer.from('/'), name]);
      const stats = lstatSync(full);
      const here = `${shown}/${name.toString('latin1')}`;
      const mode = (stats.mode & 0o7777).toString(8);
      if (stats.isSymbolicLink()) lines.push(`${here} -> ${readlinkSync(full)}`);
      else if (stats.isDirectory()) {
        lines.push(`${here}/ ${mode} ${Math.floor(stats.mtimeMs / 1000)}`);
        walk(full, here);
      } else {
        const sum = createHash('sha256').update(readFileSync(full)).digest('hex');
        lines.push(`${here} ${mode} ${stats.size} ${Math.floor(stats.mtimeMs / 1000)} ${sum.slice(0, 12)}`);
      }
    }
  };
  walk(Buffer.from(root), '');
  return lines;
}

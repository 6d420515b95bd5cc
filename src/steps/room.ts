import { access, constants, stat, statfs } from 'node:fs/promises';
import { dirname } from 'node:path';
import type { Finding } from '../core/findings.js';
import type { Move } from './move.js';

/** Whether the new folder and the move folder can be written to and have room for the files (bytes). */
export async function checkRoom(move: Move, bytes: number): Promise<Finding[]> {
  const findings: Finding[] = [];
  const places = [{ path: move.folder.folder, why: 'the crate', need: bytes }];
  if (move.newFiles)
    places.push({ path: await standing(dirname(move.newFiles)), why: 'the new site', need: bytes });
  for (const { path, why, need } of places) {
    try {
      await access(path, constants.W_OK);
    } catch {
      findings.push({
        level: 'stop',
        code: 'place-not-writable',
        place: path,
        what: `Nothing can be written here, where ${why} shall go`,
        remedy: 'Give this account the right to write there, or name another place',
      });
      continue;
    }
    const { bavail, bsize } = await statfs(path);
    if (bavail * bsize < need) {
      findings.push({
        level: 'stop',
        code: 'room-too-small',
        place: path,
        what: `${Math.round((bavail * bsize) / 1e6)} MB are free, ${why} needs ${Math.round(need / 1e6)} MB`,
        remedy: 'Make room, or name another place',
      });
    }
  }
  return findings;
}

/** The folder itself, or the nearest one above it that is there. */
async function standing(path: string): Promise<string> {
  for (let at = path; ; at = dirname(at)) {
    if (at === dirname(at)) return at;
    try {
      if ((await stat(at)).isDirectory()) return at;
    } catch {
      // Not there yet: look above.
    }
  }
}

import { access, constants, stat } from 'node:fs/promises';
import { type Finding, finding } from '../../core/findings/findings.js';
import { sizeText } from '../../core/text/sizes.js';
import { LocalFiles } from '../../ends/files/local.js';
import type { Move } from '../move/open.js';

/** Whether the crate can be written beside the sheet and has room for the files (bytes). */
export async function checkCrateSpace(move: Move, bytes: number): Promise<Finding[]> {
  const place = move.folder.folder;
  try {
    await access(place, constants.W_OK);
  } catch {
    return [
      finding({
        level: 'stop',
        code: 'crate-not-writable',
        place,
        what: 'Nothing can be written beside the sheet, where the crate is to go',
        remedy: 'Give this account the right to write there, or put the sheet elsewhere',
      }),
    ];
  }
  const room = await new LocalFiles(place).room();
  if (!room || room.bytes >= bytes) return [];
  return [
    finding({
      level: 'stop',
      code: 'crate-room-too-small',
      place,
      what: `${sizeText(room.bytes)} are free beside the sheet, the crate needs ${sizeText(bytes)}`,
      remedy: 'Make room, or put the sheet on another disk',
    }),
  ];
}

/** Parts of the move folder that hold what came from a site: its files, its users' password hashes. */
const personal = ['crate', 'keepsake', 'state', 'results'];

/** Whether others on this machine can read what was taken from the site. */
export async function openFolderFindings({ folder }: Move): Promise<Finding[]> {
  if (process.platform === 'win32') return [];
  const open: string[] = [];
  for (const name of personal) {
    const seen = await stat(folder.at(name)).catch(() => undefined);
    if (seen && (seen.mode & 0o077) !== 0) open.push(name);
  }
  if (open.length === 0) return [];
  return [
    finding({
      level: 'warn',
      code: 'move-folder-open',
      place: folder.at(open[0]!),
      what: `Others on this machine can read what was taken from the site: ${open.join(', ')}`,
      remedy: `Close it: chmod -R go-rwx ${open.map(name => folder.at(name)).join(' ')}`,
    }),
  ];
}

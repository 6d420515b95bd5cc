import { access, constants } from 'node:fs/promises';
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

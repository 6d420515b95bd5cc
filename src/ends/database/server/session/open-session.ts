import { Hatch } from '../../../hatch/hatch.js';
import { HatchSession } from './hatch-session.js';
import type { DatabaseRoute, DatabaseSession } from './session.js';
import { StraightSession } from './straight-session.js';

/** Opens a session. @throws EndError when the server cannot be reached or refuses the credentials */
export async function openSession({ place, through }: DatabaseRoute): Promise<DatabaseSession> {
  if (through instanceof Hatch) return HatchSession.open(place, through);
  return StraightSession.open({ place, through });
}

import { DamageError, EndError } from '../../core/errors.js';

const doing = 'Collecting the crate';

const again = 'Offer the crate again, with a new ticket';
/** What the other end may say, and what to do. */
const refusals: ReadonlyMap<string, readonly [cause: string, remedy: string]> = new Map([
  [
    'wrong secret',
    [
      'the other end does not take this ticket',
      'Copy the ticket again; after five wrong tries it is dead, and a new one is needed',
    ],
  ],
  [
    'another collector',
    [
      'somebody else has begun to collect with this ticket',
      'Resume where the crate was begun to be collected, or offer it again',
    ],
  ],
  ['late', ['the ticket is too old', again]],
  ['used', ['the crate was collected with this ticket already', again]],
]);

/** The other end does not let us in. @param why as it says, which may be anything */
export function refusal(doing: string, why: string): EndError {
  const [cause, remedy] = refusals.get(why) ?? ['the other end refuses', again];
  return new EndError({ doing, kind: 'refused', cause, remedy });
}

export function otherHost(cause: string): EndError {
  return new EndError({
    doing,
    kind: 'untrusted',
    cause,
    remedy: 'Somebody else may answer there; look at the address, and offer the crate again',
  });
}

export function nobodyWaits(where: string): EndError {
  return new EndError({
    doing,
    kind: 'unreachable',
    cause: `nobody waits at ${where}: the crate was collected with this ticket already, or the offer has ended`,
    remedy: 'Offer the crate again, with a new ticket; what has come is kept',
  });
}

export function shortened(file: string): DamageError {
  return new DamageError({
    doing,
    cause: `${file} is shorter than what had come`,
    remedy: 'Collect again with the same ticket; it begins anew',
  });
}

export function unfinished(): EndError {
  return new EndError({
    doing,
    kind: 'refused',
    cause: 'the old site could not be packed as a whole; the other end shows why',
    remedy: 'Pack there until it is done, then offer the crate again',
  });
}

/** A ticket is dead because somebody tried wrong secrets. */
export function triedOut(doing: string): EndError {
  return new EndError({
    doing,
    kind: 'refused',
    cause: 'five wrong secrets were tried, so the ticket is dead',
    remedy: 'Begin again, with a new ticket; somebody may be guessing, or have an old one',
  });
}

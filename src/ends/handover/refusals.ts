import { EndError } from '../../core/errors.js';

const doing = 'Collecting the crate';

/** The other end does not let us in. @param why as it says */
export function refusal(doing: string, why: string): EndError {
  const remedies: Record<string, string> = {
    'wrong secret': 'Copy the ticket again; after five wrong tries it is dead, and a new one is needed',
    'another collector': 'Resume where the crate was begun to be collected, or offer it again',
    late: 'Offer the crate again, with a new ticket',
    used: 'Offer the crate again, with a new ticket',
  };
  const causes: Record<string, string> = {
    'wrong secret': 'the other end does not take this ticket',
    'another collector': 'somebody else has begun to collect with this ticket',
    late: 'the ticket is too old',
    used: 'the crate was collected with this ticket already',
  };
  return new EndError({
    doing,
    kind: 'refused',
    cause: causes[why] ?? `the other end refuses (${why.slice(0, 80)})`,
    remedy: remedies[why] ?? 'Offer the crate again, with a new ticket',
  });
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
    remedy: 'Offer the crate again, with a new ticket',
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

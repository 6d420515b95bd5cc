import { EndError, PorterError } from '../../core/errors.js';
import type { FilesPlace } from '../../ends/files/place.js';

/**
 * Where a login lands at the host, in words: paths of a remote place count from the server's root, and what that is for an
 * account shows only there. Empty for this machine and where the host does not say.
 */
export async function landingText(place: FilesPlace): Promise<string> {
  const landing = await place.landing().catch(() => undefined);
  return landing === undefined ? '' : `the login lands in ${landing}`;
}

/** Adds where the login lands to the error that the folder of an end is not there. */
export async function withLanding<T>(place: FilesPlace | undefined, work: () => Promise<T>): Promise<T> {
  try {
    return await work();
  } catch (error) {
    if (!place || place.isLocal || (error instanceof PorterError && error.kind !== 'not found')) throw error;
    if (
      await place
        .open()
        .isThere()
        .catch(() => true)
    )
      throw error;
    const landing = await landingText(place);
    if (landing === '') throw error;
    throw new EndError(
      {
        doing: `Opening ${place}`,
        kind: 'not found',
        cause: `there is no such folder; ${landing}`,
        remedy: `Write the whole path from the server's root after the host, such as ${place.inAccount((await place.landing()) ?? '/')}`,
      },
      { cause: error },
    );
  }
}

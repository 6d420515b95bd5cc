import type { AuthPlugin, ConnectionOptions } from 'mysql2';
import { type DatabasePlace, isThisMachine } from '../../../core/database/place.js';

/**
 * How the line to a server is protected: it does not leave this machine, goes through an SSH connection, by TLS with a
 * certificate that was verified, by TLS with one that was not, or not at all.
 */
export type Line = 'here' | 'tunnel' | 'verified' | 'unverified' | 'clear';

export function lineTo(place: DatabasePlace, isTunnelled: boolean): Line {
  if (isTunnelled) return 'tunnel';
  if (place.tls === 'off') return isThisMachine(place.host) ? 'here' : 'clear';
  if (place.tls !== undefined) return place.tls === 'verify' ? 'verified' : 'unverified';
  return place.socket !== undefined || isThisMachine(place.host) ? 'here' : 'verified';
}

/** What the driver needs for a line. */
export function optionsOf(line: Line, plugins: typeof import('mysql2').authPlugins): ConnectionOptions {
  if (line === 'verified') return { ssl: { rejectUnauthorized: true, verifyIdentity: true } };
  const safe = { mysql_clear_password: refusing };
  if (line === 'unverified') return { ssl: { rejectUnauthorized: false }, authPlugins: safe };
  if (line !== 'clear') return { authPlugins: line === 'here' ? {} : safe };
  // A key that comes over an open line may be anybody's.
  return {
    authPlugins: {
      ...safe,
      caching_sha2_password: plugins.caching_sha2_password({ onServerPublicKey: refuse }),
      sha256_password: refusing,
    },
  };
}

/** The code of the error where a server asks for the password in a way that others on the line could read. */
export const askedInClear = 'ASKED_IN_CLEAR';

function refuse(): never {
  throw Object.assign(new Error('it asks for the password in a way that others on the line could read'), {
    code: askedInClear,
  });
}

const refusing: AuthPlugin = () => refuse;

import type { AuthPlugin, ConnectionOptions } from 'mysql2';
import type { Line } from '../../../../core/database/place.js';

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

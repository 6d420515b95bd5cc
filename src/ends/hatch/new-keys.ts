import { generateKeyPairSync } from 'node:crypto';
import type { HatchKeys, SigningAlgorithm } from '../../core/hatch/keys.js';

/** New keys for a hatch that shares a secret of 32 bytes with this program. */
export function newHatchKeys(algorithm: SigningAlgorithm, secret: Buffer): HatchKeys {
  const { privateKey, publicKey } =
    algorithm === 'ed25519'
      ? generateKeyPairSync('ed25519')
      : generateKeyPairSync('ec', { namedCurve: 'prime256v1' });
  const der = publicKey.export({ type: 'spki', format: 'der' });
  return {
    algorithm,
    privateKey,
    publicKey: algorithm === 'ed25519' ? der.subarray(-32) : der,
    secret,
  };
}

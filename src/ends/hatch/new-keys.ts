import { generateKeyPairSync, randomBytes } from 'node:crypto';
import type { HatchKeys, SigningAlgorithm } from '../../core/hatch/keys.js';

/** New keys for a hatch. */
export function newHatchKeys(algorithm: SigningAlgorithm): HatchKeys {
  const { privateKey, publicKey } =
    algorithm === 'ed25519'
      ? generateKeyPairSync('ed25519')
      : generateKeyPairSync('ec', { namedCurve: 'prime256v1' });
  const der = publicKey.export({ type: 'spki', format: 'der' });
  return {
    algorithm,
    privateKey,
    publicKey: algorithm === 'ed25519' ? der.subarray(-32) : der,
    secret: randomBytes(32),
  };
}

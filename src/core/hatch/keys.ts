import { createHmac, type KeyObject, sign } from 'node:crypto';

/** How requests to a hatch are signed: Ed25519 where its PHP has it, otherwise ECDSA with the curve P-256. */
export type SigningAlgorithm = 'ed25519' | 'ecdsa-p256';

/** The keys of one hatch. They live as long as the run that made them, and are never written down at this end. */
export interface HatchKeys {
  readonly algorithm: SigningAlgorithm;
  readonly privateKey: KeyObject;
  /** As the hatch holds it: 32 bytes of Ed25519, or the DER of a SubjectPublicKeyInfo (RFC 5480). */
  readonly publicKey: Buffer;
  /** What both ends know: answers are proved by it, and bodies sealed with it. */
  readonly secret: Buffer;
}

/** The signature of the head of a request. */
export function signatureOf({ algorithm, privateKey }: HatchKeys, head: Buffer): Buffer {
  return sign(algorithm === 'ed25519' ? null : 'sha256', head, privateKey);
}

/** A key that is good for one request alone. @param what it is for @param number of the request */
export function requestKey(secret: Buffer, what: 'ask' | 'reply' | 'seal', number: number): Buffer {
  return createHmac('sha256', secret).update(`${what} ${number}`).digest();
}

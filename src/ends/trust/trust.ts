import type { AskTrust } from './ask-trust.js';
import { KnownCertificates } from './certificates.js';
import { HostKeys } from './host-keys.js';

/** Which hosts a move trusts: by the keys and certificates that are known, and those that a person accepted. */
export interface Trust {
  readonly hostKeys: HostKeys;
  readonly certificates: KnownCertificates;
}

/**
 * What is trusted in a move.
 * @param folder of the move, where what a person accepts is kept
 * @param ask left out where nobody is there to ask
 */
export function trustIn(folder: string, ask?: AskTrust): Trust {
  return { hostKeys: new HostKeys(folder, ask), certificates: new KnownCertificates(folder, ask) };
}

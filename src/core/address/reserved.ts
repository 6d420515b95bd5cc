/**
 * Whether a host's name is set aside for examples and tests and leads nowhere, so that nobody need be asked.
 * RFC 2606 and RFC 6761, section 6.
 */
export function isReservedName(host: string): boolean {
  return /(?:^|\.)(?:example|test|invalid|localhost|example\.(?:com|net|org))\.?$/i.test(host);
}

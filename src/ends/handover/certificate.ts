import { createHash, webcrypto } from 'node:crypto';

/** A certificate that is made for one hand-over, and its private key. */
export interface OneTimeCertificate {
  readonly key: string;
  readonly cert: string;
  /** SHA-256 in hex. */
  readonly fingerprint: string;
}

/** @param ends milliseconds since 1970 */
export async function oneTimeCertificate(ends: number): Promise<OneTimeCertificate> {
  // In the older form of packages all is in one thing.
  const whole = (await import('@peculiar/x509')) as unknown as { default: typeof import('@peculiar/x509') };
  const { cryptoProvider, X509CertificateGenerator, PemConverter } = whole.default;
  const { subtle } = webcrypto;
  cryptoProvider.set(webcrypto as never);
  const algorithm = { name: 'ECDSA', namedCurve: 'P-256' };
  const keys = await subtle.generateKey(algorithm, true, ['sign', 'verify']);
  const certificate = await X509CertificateGenerator.createSelfSigned({
    name: 'CN=Able Porter hand-over',
    keys,
    signingAlgorithm: { name: 'ECDSA', hash: 'SHA-256' },
    // Clocks differ.
    notBefore: new Date(Date.now() - 24 * 3600 * 1000),
    notAfter: new Date(ends + 24 * 3600 * 1000),
  });
  const key = PemConverter.encode(await subtle.exportKey('pkcs8', keys.privateKey), 'PRIVATE KEY');
  const fingerprint = createHash('sha256').update(Buffer.from(certificate.rawData)).digest('hex');
  return { key, cert: certificate.toString('pem'), fingerprint };
}

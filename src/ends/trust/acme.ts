import type { Authorization } from 'acme-client';

/** How a certificate authority is asked (ACME, RFC 8555). */
export interface AcmeOrder {
  /** The URL of its directory. */
  readonly directory: string;
  readonly mail: string | undefined;
  /** Whose certificate its own server may show, besides those that this machine trusts; PEM. */
  readonly trust: string | undefined;
  /** The first is the certificate's own, the others are beside it. */
  readonly hosts: readonly string[];
  readonly kind: 'dns-01' | 'http-01';
  /** Proves that a host is ours; comes back once everybody can see it. */
  readonly put: (proof: AcmeProof) => Promise<void>;
  readonly remove: (proof: AcmeProof) => Promise<void>;
}

/** What the authority wants to see for a host. */
export interface AcmeProof {
  readonly host: string;
  /** Of `http-01`: the last part of the path. */
  readonly token: string;
  /** The text of the TXT record at `_acme-challenge`, or of the file. */
  readonly text: string;
}

/** A certificate as it was given out. All are PEM. */
export interface AcmeCertificate {
  readonly key: string;
  /** With those that vouch for it. */
  readonly chain: string;
}

/**
 * Asks a certificate authority for a certificate, one proof after another.
 * @throws an Error with what the authority says
 */
export async function orderCertificate(order: AcmeOrder): Promise<AcmeCertificate> {
  // In the older form of packages all is in one thing.
  const { axios, Client, crypto } = (await import('acme-client')).default;
  if (order.trust !== undefined) {
    const { Agent } = await import('node:https');
    const { rootCertificates } = await import('node:tls');
    axios.defaults.httpsAgent = new Agent({ ca: [...rootCertificates, order.trust] });
  }
  // An account of its own for each order: nothing has to be kept.
  const accountKey = await crypto.createPrivateEcdsaKey();
  const client = new Client({ directoryUrl: order.directory, accountKey });
  const [commonName, ...others] = order.hosts;
  const [key, csr] = await crypto.createCsr(
    { commonName, altNames: [commonName!, ...others] },
    await crypto.createPrivateEcdsaKey(),
  );
  const proofOf = ({ identifier }: Authorization, { token }: { token: string }, text: string): AcmeProof => ({
    host: identifier.value,
    token,
    text,
  });
  // Proofs of one name with and without a wildcard are at one place, and others wait for their servers: one at a time.
  let last: Promise<unknown> = Promise.resolve();
  const inTurn = (work: () => Promise<void>) => {
    last = last.then(work, work);
    return last;
  };
  const chain = await client.auto({
    csr,
    ...(order.mail === undefined ? {} : { email: order.mail }),
    termsOfServiceAgreed: true,
    // Whether it can be seen is looked at by those who put it there.
    skipChallengeVerification: true,
    challengePriority: [order.kind],
    challengeCreateFn: (authorization, challenge, text) =>
      inTurn(() => order.put(proofOf(authorization, challenge, text))),
    challengeRemoveFn: (authorization, challenge, text) =>
      inTurn(() => order.remove(proofOf(authorization, challenge, text))),
  });
  return { key: key.toString(), chain };
}

import { connect, type TLSSocket } from 'node:tls';
import { hexFingerprint, parseFingerprint } from '../../core/fingerprint.js';

/** The certificate that a server shows for a name. */
export interface SeenCertificate {
  readonly issuer: string;
  /** Its first and last day. */
  readonly from: Date;
  readonly until: Date;
  /** As the sheet may have it. */
  readonly fingerprint: string;
  /** Why a browser would not accept it; undefined where it would. */
  readonly refused: string | undefined;
}

const patience = 10_000;

/**
 * Looks at the certificate that a server shows, whether it can be trusted or not. No request is sent.
 * @param name the host that the certificate is to be for
 * @throws an Error of the network when no TLS connection comes about in ten seconds
 */
export function lookAtCertificate(
  host: string,
  port: number,
  name: string,
  signal: AbortSignal,
): Promise<SeenCertificate> {
  return new Promise((resolve, reject) => {
    // Anything is accepted here in order to say what is wrong with it; nothing is sent over the connection.
    const socket = connect({ host, port, servername: name, rejectUnauthorized: false });
    const abort = () => socket.destroy(signal.reason as Error);
    signal.addEventListener('abort', abort, { once: true });
    socket.setTimeout(patience, () => socket.destroy(new Error(`no answer in ${patience / 1000} seconds`)));
    socket.once('error', reject);
    socket.once('close', () => signal.removeEventListener('abort', abort));
    socket.once('secureConnect', () => {
      const shown = socket.getPeerCertificate();
      const { authorizationError } = socket;
      resolve({
        issuer: String(shown.issuer?.O ?? shown.issuer?.CN ?? 'unknown'),
        from: new Date(shown.valid_from),
        until: new Date(shown.valid_to),
        fingerprint: hexFingerprint(fingerprintOf(socket)),
        refused: authorizationError ? refusalReason(authorizationError) : undefined,
      });
      socket.end();
    });
  });
}

/** The fingerprint of the certificate that a server has shown. */
export function fingerprintOf(socket: TLSSocket): string {
  return parseFingerprint(socket.getPeerCertificate().fingerprint256 ?? '') ?? '';
}

/** Why a certificate is not accepted, from the `authorizationError` of a connection. */
export function refusalReason(error: Error | string): string {
  const code = typeof error === 'string' ? error : ((error as NodeJS.ErrnoException).code ?? error.message);
  return reasons[code] ?? code.toLowerCase().replaceAll('_', ' ');
}

const reasons: Readonly<Record<string, string>> = {
  CERT_HAS_EXPIRED: 'it has expired',
  CERT_NOT_YET_VALID: 'it is not valid yet',
  DEPTH_ZERO_SELF_SIGNED_CERT: 'it is self-signed',
  SELF_SIGNED_CERT_IN_CHAIN: 'its chain ends in a certificate that nobody knows',
  UNABLE_TO_VERIFY_LEAF_SIGNATURE: 'an intermediate certificate is missing',
  UNABLE_TO_GET_ISSUER_CERT_LOCALLY: 'an intermediate certificate is missing',
  ERR_TLS_CERT_ALTNAME_INVALID: 'it is for another name',
};

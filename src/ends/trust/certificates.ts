import { appendFile, readFile } from 'node:fs/promises';
import { join } from 'node:path';
import type { TLSSocket } from 'node:tls';
import { hexFingerprint, parseFingerprint } from '../../core/fingerprint.js';
import type { AskTrust, Unknown } from './ask-trust.js';
import { fingerprintOf, refusalReason } from './certificate.js';

/** Why a certificate is not accepted. */
export interface RefusedCertificate {
  readonly cause: string;
  /** As the sheet may have it. */
  readonly fingerprint: string;
}

/** The certificates that a person accepted for this move, although nobody vouches for them. They are kept beside the sheet. */
export class KnownCertificates {
  private readonly file: string;
  private readonly ask: AskTrust | undefined;
  /** What a person answers of a certificate, which several connections may ask at once. */
  private readonly answers = new Map<string, Promise<boolean>>();

  /** @param folder of the move; @param ask left out where nobody is there to ask */
  constructor(folder: string, ask?: AskTrust) {
    this.file = join(folder, 'known_certificates');
    this.ask = ask;
  }

  /**
   * Judges the certificate of a connection that was made without judging it. Nothing may be sent before.
   * @param wanted the fingerprint that the sheet gives; then no other certificate is accepted
   * @returns why it is not accepted, or undefined where it is
   */
  async refuses(
    socket: TLSSocket,
    host: string,
    port: number,
    wanted: string | undefined,
  ): Promise<RefusedCertificate | undefined> {
    const canonical = fingerprintOf(socket);
    const fingerprint = hexFingerprint(canonical);
    if (wanted !== undefined) {
      if (parseFingerprint(wanted) === canonical) return undefined;
      return { cause: `its certificate is ${fingerprint}, the sheet says ${wanted}`, fingerprint };
    }
    if (socket.authorized) return undefined;
    const why = refusalReason(socket.authorizationError);
    const line = `${host}:${port} ${fingerprint}`;
    const known = (await readFile(this.file, 'utf8').catch(() => '')).split('\n');
    if (known.includes(line)) return undefined;
    const isOther = known.some(one => one.startsWith(`${host}:${port} `));
    const shown = port === 443 || port === 21 ? host : `${host}:${port}`;
    const changed = isOther ? `${why}, and another one was accepted before` : why;
    if (await this.accepted(line, { host: shown, what: 'certificate', fingerprint, why: changed }))
      return undefined;
    return { cause: `its certificate ${fingerprint} is not accepted: ${changed}`, fingerprint };
  }

  private async accepted(line: string, unknown: Unknown): Promise<boolean> {
    const answer =
      this.answers.get(line) ??
      (async () => {
        if (!(await this.ask?.(unknown))) return false;
        await appendFile(this.file, `${line}\n`, { mode: 0o600 });
        return true;
      })();
    this.answers.set(line, answer);
    return answer;
  }
}

import { isIP } from 'node:net';
import type { TLSSocket } from 'node:tls';
import { bytesOfText } from '../../core/bytes.js';
import { EndError, type ErrorKind, PartWayError } from '../../core/errors.js';
import { BackOff } from '../back-off.js';
import { ConnectionLost } from '../connection-lost.js';
import { fingerprintOf } from '../trust/certificate.js';
import type { KnownCertificates } from '../trust/certificates.js';
import type { Client } from './client.js';
import { FileTimes } from './file-times.js';
import { isFtpError, unreadableReply } from './refusal.js';

/** How one gets into an account over FTP. */
export interface FtpLogin {
  readonly host: string;
  readonly port: number;
  readonly user: string;
  readonly password: string;
  /** `explicit` begins in the clear and asks for TLS before the password; `implicit` begins with TLS. */
  readonly tls: 'none' | 'explicit' | 'implicit';
  /** The SHA-256 fingerprint that the certificate must have, where the sheet gives it. */
  readonly certificate: string | undefined;
}

const patience = 20_000;
/** Many hosts accept no more connections than this at once; where a host refuses more, fewer are used. */
const connections = 8;

/** An account at an FTP server: as many connections as are needed, up to a few, each doing one thing at a time. */
export class FtpSession {
  /** Takes what a person should know while something is waited for. */
  report: (text: string) => void = () => {};
  readonly login: FtpLogin;
  private readonly certificates: KnownCertificates;
  /** Whether the server lets files be resumed, as far as is known. */
  appends = true;
  readonly times = new FileTimes();
  private readonly clients = new Set<Client>();
  private readonly idle: Client[] = [];
  private readonly waiting: (() => void)[] = [];
  private open = 0;
  private most = connections;
  private closed = false;
  /** Whether the server has let this account in before. */
  private wasIn = false;

  constructor(login: FtpLogin, certificates: KnownCertificates) {
    this.login = login;
    this.certificates = certificates;
  }

  /** Opens no more connections than this. */
  keepTo(most: number): void {
    this.most = Math.min(this.most, most);
  }

  /** How many things can be done at once. */
  get atOnce(): number {
    return this.most;
  }

  /**
   * Does one thing over a connection; when the connection is lost, does it again over another.
   * @param work must be safe to do again
   */
  async do<T>(work: (client: Client) => Promise<T>): Promise<T> {
    const backOff = this.backOff();
    for (;;) {
      try {
        return await this.once(work);
      } catch (error) {
        if (!(error instanceof ConnectionLost)) throw error;
        await backOff.wait(this.report, error);
      }
    }
  }

  /** The pauses before this server is tried again. */
  backOff(): BackOff {
    return new BackOff(this.login.host);
  }

  /**
   * Does one thing over a connection, once.
   * @throws ConnectionLost when the connection was lost meanwhile
   */
  async once<T>(work: (client: Client) => Promise<T>): Promise<T> {
    const client = await this.take();
    let good = false;
    try {
      const result = await work(client);
      good = true;
      return result;
    } catch (error) {
      const unreadable = unreadableReply(error);
      if (unreadable) throw unreadable;
      good = isFtpError(error) && error.code !== 421 && !client.closed;
      if (good) throw error;
      throw new ConnectionLost(`The connection to ${this.login.host} was lost: ${(error as Error).message}`, {
        cause: error,
      });
    } finally {
      this.give(client, good);
    }
  }

  close(): void {
    this.closed = true;
    // Those that wait for the server as well: nobody waits for them any more.
    for (const client of this.clients) client.close();
  }

  private async take(): Promise<Client> {
    for (;;) {
      const idle = this.idle.pop();
      if (idle && !idle.closed) return idle;
      if (idle) {
        this.clients.delete(idle);
        this.open--;
      } else if (this.open < this.most) {
        this.open++;
        const client = await this.connect().catch(error => {
          this.open--;
          this.waiting.shift()?.();
          throw error;
        });
        if (client) return client;
        this.open--;
      } else await new Promise<void>(resolve => this.waiting.push(resolve));
    }
  }

  private give(client: Client, good: boolean): void {
    if (good && !this.closed) this.idle.push(client);
    else {
      client.close();
      this.clients.delete(client);
      this.open--;
    }
    this.waiting.shift()?.();
  }

  /** @returns undefined where the server lets in no more; what is there already must do */
  private async connect(): Promise<Client | undefined> {
    const { host, port, user, password, tls } = this.login;
    const { Client } = await import('./client.js');
    const client = new Client(patience);
    // Names are bytes of whatever encoding; they come and go as they are.
    client.ftp.encoding = 'latin1';
    this.clients.add(client);
    const named = isIP(host) === 0 ? { servername: host } : {};
    // The certificate is judged before the login; then a person can be asked.
    const secure = { ...named, host, rejectUnauthorized: false };
    const doing = `Connecting to ${user}@${host}:${port}`;
    try {
      if (tls === 'implicit') await client.connectImplicitTLS(host, port, secure);
      else await client.connect(host, port);
      if (tls === 'explicit') await client.useTLS(secure);
      if (tls !== 'none') await this.judgeCertificate(client, doing);
      await client.login(bytesOfText(user), bytesOfText(password));
      await client.useDefaultSettings();
      this.wasIn = true;
      return client;
    } catch (error) {
      client.close();
      this.clients.delete(client);
      if (error instanceof EndError) throw error;
      const busy =
        isFtpError(error) && [421, 530].includes(error.code) && /too many|maximum|limit/i.test(error.message);
      if (busy && this.open > 1) {
        this.most = this.open - 1;
        this.report(`${host} allows no more than ${this.most} connections; continuing with these`);
        return undefined;
      }
      const refused = isFtpError(error) && error.code === 530;
      const cutOff = /FIN packet|ECONNRESET|EPIPE/.test((error as Error).message);
      if ((this.wasIn || cutOff) && !refused)
        throw new ConnectionLost(`The connection to ${host} is down: ${(error as Error).message}`, {
          cause: error,
        });
      throw asEndError(error as Error & { code?: string | number }, doing);
    }
  }

  /** @throws EndError for a certificate that is not accepted */
  private async judgeCertificate({ ftp }: Client, doing: string): Promise<void> {
    const { host, port, certificate } = this.login;
    const control = ftp.socket as TLSSocket;
    const refused = await this.certificates.refuses(control, host, port, certificate);
    if (refused) {
      const command = `openssl s_client -connect ${host}:${port}${this.login.tls === 'explicit' ? ' -starttls ftp' : ''} | openssl x509 -noout -fingerprint -sha256`;
      throw new EndError({
        doing,
        kind: 'untrusted',
        cause: refused.cause,
        remedy: `Compare it with what the host says (or: ${command}); if it is right, write into its login in the sheet: host-key: ${refused.fingerprint}`,
      });
    }
    // Each data connection must show the same certificate: an accepted one is not verified by TLS alone.
    if (control.authorized) (ftp.tlsOptions as { rejectUnauthorized: boolean }).rejectUnauthorized = true;
    else ftp.pinned = fingerprintOf(control);
  }
}

function asEndError(error: Error & { code?: string | number }, doing: string): Error {
  const { code, message } = error;
  const failure = (kind: ErrorKind, cause: string, remedy: string) =>
    new EndError({ doing, kind, cause, remedy }, { cause: error });
  if (code === 530)
    return failure(
      'credentials',
      'the host refuses the login',
      'Check user and password; a password is taken from .env exactly as it is written there',
    );
  if (code === 421)
    return failure(
      'connection cut',
      `the server closed the control connection (${message})`,
      'Wait a while; it may count connections',
    );
  if (code === 'ECONNREFUSED') return failure('unreachable', 'nobody listens there', 'Check host and port');
  if (code === 'ENOTFOUND')
    return failure('unreachable', 'there is no host of that name', 'Check the host’s name');
  if (typeof code === 'number' && code >= 500 && /TLS|SSL|AUTH/i.test(message))
    return failure(
      'refused',
      `it does not speak TLS (${message})`,
      'Ask the host for SFTP or FTPS; plain ftp:// shows the password to everybody on the way',
    );
  return new PartWayError(
    { doing, cause: message, remedy: 'Run the command again; it resumes where it was' },
    { cause: error },
  );
}

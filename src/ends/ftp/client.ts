// Loaded only when a place is reached by FTP.
import { TLSSocket } from 'node:tls';
import { FTPContext, type FTPResponse, Client as FtpClient } from 'basic-ftp';
import { fingerprintOf } from '../trust/certificate.js';
import { holdLineEnds, withLineEnds } from './listing-lines.js';
import { isFtpError } from './refusal.js';

/** Connections of one client; a certificate that TLS alone does not vouch for is demanded of each data connection too. */
class PinnedContext extends FTPContext {
  /** The fingerprint that the control connection's certificate has, where TLS does not verify it. */
  pinned: string | undefined;

  /**
   * Where a data connection is to be made to, only the port is the server's to say: another host's address is that of a
   * network behind it, or the server would use this machine against that host.
   */
  override async request(command: string): Promise<FTPResponse> {
    const reply = await super.request(command);
    const host = this.socket.remoteAddress?.replace(/^::ffff:/i, '').replaceAll('.', ',');
    if (command !== 'PASV' || !host) return reply;
    return { ...reply, message: reply.message.replace(/(?:\d+,){4}(?=\d+,\d+)/, `${host},`) };
  }

  override get dataSocket() {
    return super.dataSocket;
  }

  override set dataSocket(socket) {
    if (socket instanceof TLSSocket && this.pinned !== undefined)
      socket.once('secureConnect', () => {
        // A resumed session was begun with the judged certificate.
        if (socket.isSessionReused() || fingerprintOf(socket) === this.pinned) return;
        socket.destroy(
          new Error('the data connection shows another certificate than the control connection'),
        );
      });
    super.dataSocket = socket;
  }
}

/** A folder's listing is in memory as a whole; one of a million files is smaller than this many bytes. */
const largestListing = 256 * 1024 * 1024;

/** The FTP client of the package, with certificates that were accepted by their fingerprint. */
export class Client extends FtpClient {
  override readonly ftp: PinnedContext;

  /** @param timeout milliseconds */
  constructor(timeout: number) {
    super(timeout, { allowSeparateTransferHost: true, maxListingBytes: largestListing });
    this.ftp = new PinnedContext(timeout);
    const { parseList } = this;
    this.parseList = listing => {
      const entries = parseList(holdLineEnds(listing));
      for (const entry of entries) entry.name = withLineEnds(entry.name);
      return entries;
    };
  }

  /**
   * Sends all commands before the first is answered; the server does them one after the other (RFC 959, section 5.4).
   * @param commands each with its parts; paths are from the server's root
   * @throws FTPError for the first that is refused
   */
  async sendTogether(...commands: readonly (readonly string[])[]): Promise<void> {
    const refused = (await this.refusalsOf(...commands)).find(one => one !== undefined);
    if (refused) throw refused;
  }

  /** The same; gives the refusal of each, undefined where it was accepted. @throws where the connection ends */
  async refusalsOf(...commands: readonly (readonly string[])[]): Promise<(Error | undefined)[]> {
    const refusals: (Error | undefined)[] = [];
    const replies = this.ftp.handle(undefined, (reply, task) => {
      // An error of the connection has no reply code, and nothing comes after it.
      if (reply instanceof Error && !isFtpError(reply)) task.reject(reply);
      else if (refusals.push(reply instanceof Error ? reply : undefined) === commands.length)
        task.resolve(undefined);
    });
    this.ftp.socket.cork();
    for (const command of commands) this.ftp.send(command.join(' '));
    this.ftp.socket.uncork();
    await replies;
    return refusals;
  }

  /** As the package does, in two round trips instead of up to seven. */
  override async useDefaultSettings(): Promise<void> {
    const listsWell = (await this.features()).has('MLST');
    if (listsWell) this.availableListCommands = ['MLSD', ...this.availableListCommands];
    const [asBytes] = await this.refusalsOf(
      ['TYPE', 'I'],
      ['STRU', 'F'],
      ['OPTS', 'UTF8', 'ON'],
      ...(listsWell ? [['OPTS', 'MLST', 'type;size;modify;unix.mode;']] : []),
      ...(this.ftp.hasTLS
        ? [
            ['PBSZ', '0'],
            ['PROT', 'P'],
          ]
        : []),
    );
    if (asBytes) throw asBytes;
  }
}

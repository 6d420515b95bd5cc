import { type AddressInfo, createServer, type Socket } from 'node:net';
import { HostFolder } from './host-folder.js';
import { Misbehaviour } from './misbehaviour.js';

/** An account at a stand-in host. */
export interface StandinAccount {
  readonly user: string;
  readonly password: string;
  /** Whether the password is asked for with a question of the host's own (RFC 4256). */
  readonly asks?: boolean;
}

/** What stand-in hosts have in common: a folder of this machine as their file system, one account, a loopback port. */
export abstract class HostServer {
  readonly misbehaviour = new Misbehaviour();
  protected readonly host: HostFolder;
  protected readonly account: StandinAccount;
  private readonly server = createServer(socket => {
    if (this.misbehaviour.admits(socket)) this.meet(socket);
    else this.turnAway(socket);
  });

  constructor(folder: string, account: StandinAccount) {
    this.host = new HostFolder(folder, this.misbehaviour);
    this.account = account;
  }

  /** Starts to listen; gives the port. @param host an address of this machine's own */
  async listen(host = '127.0.0.1'): Promise<number> {
    await new Promise<void>(resolve => this.server.listen(0, host, resolve));
    return (this.server.address() as AddressInfo).port;
  }

  async close(): Promise<void> {
    const closed = new Promise(resolve => this.server.close(resolve));
    this.misbehaviour.cut();
    await closed;
  }

  /** Serves a connection that was accepted. */
  protected abstract meet(socket: Socket): void;

  protected turnAway(socket: Socket): void {
    socket.destroy();
  }
}

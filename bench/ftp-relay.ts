import type { AddressInfo, Socket } from 'node:net';
import { connect, createServer } from 'node:net';
import { Relay } from '../test/help/relay.js';

/** A relay in front of an FTP server that delays the control connections and the data connections that they open. */
export class FtpRelay {
  private readonly target: number;
  private readonly delay: number;
  private readonly closing: (() => Promise<unknown>)[] = [];

  constructor(target: number, delay: number) {
    this.target = target;
    this.delay = delay;
  }

  async listen(): Promise<number> {
    const server = createServer(near => {
      const far = connect(this.target, '127.0.0.1');
      near.setNoDelay();
      far.setNoDelay();
      near.on('error', () => far.destroy()).on('close', () => far.destroy());
      far.on('error', () => near.destroy()).on('close', () => setTimeout(() => near.destroy(), this.delay));
      near.on('data', chunk => setTimeout(() => far.writable && far.write(chunk), this.delay));
      const open: Relay[] = [];
      near.on('close', () => {
        for (const relay of open.splice(0)) this.closeLater(relay);
      });
      far.on('data', async chunk => {
        const began = performance.now();
        const answer = await this.withOwnPort(chunk.toString('latin1'), open);
        // What is under way has arrived by then.
        if (/^226 /m.test(answer)) this.closeLater(open.shift());
        setTimeout(
          () => near.writable && near.write(answer, 'latin1'),
          this.delay - (performance.now() - began),
        );
      });
      this.closing.push(async () => near.destroy() as Socket);
    });
    await new Promise<void>(resolve => server.listen(0, '127.0.0.1', resolve));
    this.closing.push(() => new Promise(resolve => server.close(resolve)));
    return (server.address() as AddressInfo).port;
  }

  async close(): Promise<void> {
    await Promise.all(this.closing.map(close => close()));
  }

  /** The answer to EPSV, with the port of a relay in place of the server's. */
  private async withOwnPort(answer: string, open: Relay[]): Promise<string> {
    const [, port] = /^229 .*\(\|\|\|(\d+)\|\)/m.exec(answer) ?? [];
    if (port === undefined) return answer;
    const relay = new Relay(Number(port), this.delay);
    open.push(relay);
    return answer.replace(`|||${port}|`, `|||${await relay.listen()}|`);
  }

  private closeLater(relay: Relay | undefined): void {
    setTimeout(() => void relay?.close(), 4 * this.delay + 500);
  }
}

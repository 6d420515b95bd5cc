import type { AddressInfo } from 'node:net';
import { connect, createServer, type Server, type Socket } from 'node:net';

/** A TCP relay in front of a port of this machine, which delays or slows what passes and can cut the line. */
export class Relay {
  /** Milliseconds each way. */
  readonly delay: number;
  private readonly target: number;
  private readonly server: Server;
  private readonly sockets = new Set<Socket>();
  /** Bytes that are on a line with a delay at most, in each direction, as TCP sends only so much ahead. */
  window = Number.POSITIVE_INFINITY;
  /** Bytes a second, each way. */
  rate = Number.POSITIVE_INFINITY;
  /** Bytes that passed towards the target so far, and back from it. */
  readonly passed = { there: 0, back: 0 };
  /**
   * How often somebody had to wait for the line: a round trip begins with bytes towards the target, and the next one no
   * sooner than its time there and back is over. What is under way at the same time counts once.
   */
  roundTrips = 0;
  private tripEnds = 0;
  /** After how many more bytes, either way, the line is cut next; it is asked again after each cut. */
  nextCut: () => number = () => Number.POSITIVE_INFINITY;
  cuts = 0;
  private cutAfter = Number.POSITIVE_INFINITY;
  private mark = { after: Number.POSITIVE_INFINITY, reached: () => {} };

  constructor(target: number, delay = 0) {
    this.target = target;
    this.delay = delay;
    this.server = createServer(near => this.join(near));
  }

  async listen(): Promise<number> {
    await new Promise<void>(resolve => this.server.listen(0, '127.0.0.1', resolve));
    return (this.server.address() as AddressInfo).port;
  }

  /** Begins to cut lines as `nextCut` says. */
  beginCutting(): void {
    this.cutAfter = this.nextCut();
  }

  /** Calls back once when so many more bytes have passed either way. */
  at(bytes: number, reached: () => void): void {
    this.mark = { after: bytes, reached };
  }

  /** Cuts every line now. */
  cut(): void {
    for (const socket of this.sockets) socket.destroy();
  }

  async close(): Promise<void> {
    this.cut();
    await new Promise(resolve => this.server.close(resolve));
  }

  private join(near: Socket): void {
    const far = connect(this.target, '127.0.0.1');
    near.setNoDelay();
    far.setNoDelay();
    this.pass(near, far, true);
    this.pass(far, near, false);
  }

  private pass(from: Socket, to: Socket, outwards: boolean): void {
    let next = 0;
    let underWay = 0;
    this.sockets.add(from);
    from.on('error', () => to.destroy());
    from.on('close', () => {
      this.sockets.delete(from);
      setTimeout(() => to.destroy(), this.delay);
    });
    from.on('data', chunk => {
      // A little sooner than the line's delay: timers have their own grain.
      if (outwards && performance.now() >= this.tripEnds) {
        this.roundTrips++;
        this.tripEnds = performance.now() + 1.8 * this.delay;
      }
      this.mark.after -= chunk.length;
      if (this.mark.after < 0) {
        const { reached } = this.mark;
        this.mark.after = Number.POSITIVE_INFINITY;
        reached();
      }
      this.cutAfter -= chunk.length;
      if (this.cutAfter < 0) {
        this.cuts++;
        this.cutAfter = this.nextCut();
        this.cut();
        return;
      }
      const write = () => {
        if (!to.destroyed) to.write(chunk);
        this.passed[outwards ? 'there' : 'back'] += chunk.length;
      };
      if (this.rate < Number.POSITIVE_INFINITY) {
        // As on a slow line, little is under way at a time.
        next = Math.max(next, performance.now()) + (chunk.length * 1000) / this.rate;
        from.pause();
        setTimeout(() => {
          write();
          from.resume();
        }, next - performance.now());
      } else if (this.delay > 0) {
        underWay += chunk.length;
        if (underWay >= this.window) from.pause();
        setTimeout(() => {
          write();
          underWay -= chunk.length;
          if (underWay < this.window) from.resume();
        }, this.delay);
      } else write();
    });
  }
}

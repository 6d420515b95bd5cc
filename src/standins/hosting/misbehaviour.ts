import type { Socket } from 'node:net';

/** What a stand-in host does wrong on request. Everything may be changed while it runs. */
export class Misbehaviour {
  /** Connections are cut when so many more bytes have passed, once. */
  dropAfter = Number.POSITIVE_INFINITY;
  /** Numbers of connections, from 1, that are refused. */
  refuse: ReadonlySet<number> = new Set();
  /** Connections beyond so many at once are refused. */
  most = Number.POSITIVE_INFINITY;
  /** Milliseconds that every answer takes. */
  slow = 0;
  /** Bytes for which there is still room. */
  room = Number.POSITIVE_INFINITY;
  /** What may not be written, renamed or removed: gives the error for a path, if any. */
  forbids: (path: string) => Error | false = () => false;
  /** Files of which nothing is kept although all of it is acknowledged. */
  loses: (path: string) => boolean = () => false;
  /** Added to every size that it shows. */
  sizeLie = 0;
  /** How often connections were cut. */
  drops = 0;
  /** Connections so far. */
  seen = 0;
  private inside = 0;
  private readonly open = new Set<Socket>();

  /** Counts a connection. @returns whether it is accepted */
  admits(socket: Socket): boolean {
    this.seen++;
    if (this.refuse.has(this.seen) || this.inside >= this.most) return false;
    this.inside++;
    socket.on('close', () => this.inside--);
    this.watch(socket);
    return true;
  }

  /** Cuts a socket along with the others when it is time. */
  watch(socket: Socket): void {
    this.open.add(socket);
    socket.on('error', () => {});
    socket.on('close', () => this.open.delete(socket));
  }

  /** Bytes passed. */
  passed(bytes: number): void {
    this.dropAfter -= bytes;
    if (this.dropAfter >= 0) return;
    this.dropAfter = Number.POSITIVE_INFINITY;
    this.drops++;
    this.cut();
  }

  /** Takes room for bytes that are written. @throws an error of the file system where it is full */
  take(bytes: number): void {
    if (bytes > this.room) throw Object.assign(new Error('no space left on device'), { code: 'ENOSPC' });
    this.room -= bytes;
  }

  async wait(): Promise<void> {
    if (this.slow === 0) return;
    // Nobody waits for a host that is waiting itself.
    await new Promise<void>(resolve => {
      setTimeout(resolve, this.slow).unref();
    });
  }

  /** Cuts every connection. */
  cut(): void {
    for (const socket of this.open) socket.destroy();
  }
}

import { createHash, type Hash } from 'node:crypto';
import { Transform } from 'node:stream';

/** Size and SHA-256 of what passes, over one stream after another. */
export class Measuring {
  bytes = 0;
  private readonly hash: Hash = createHash('sha256');

  add(chunk: Buffer): void {
    this.hash.update(chunk);
    this.bytes += chunk.length;
  }

  /** A stream that lets pass what it measures. */
  stream(): Transform {
    return new Transform({
      highWaterMark: 1 << 20,
      transform: (chunk: Buffer, _encoding, next) => {
        this.add(chunk);
        next(null, chunk);
      },
    });
  }

  /** Of what has passed so far, in hex. */
  sha256(): string {
    return this.hash.copy().digest('hex');
  }
}

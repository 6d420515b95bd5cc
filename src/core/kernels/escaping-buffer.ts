import { type Kernels, kernelsWith } from './module.js';

/** So many bytes are escaped in one go. */
const stepBytes = 256 * 1024;

/** Room for a part of a dump, in which values are escaped as they are put. What is too much for it is passed on. */
export class EscapingBuffer {
  private readonly kernels: Kernels;
  private readonly memory: Buffer;
  /** Where values lie before they are escaped. */
  private readonly given: number;
  private readonly begin: number;
  private readonly end: number;
  private at: number;
  private emitted = 0;
  private readonly emit: (chunk: Buffer) => void;

  /** @param size bytes that are passed on together @param emit takes a chunk that is good until the call ends */
  constructor(size: number, emit: (chunk: Buffer) => void) {
    const { kernels, shared, from } = kernelsWith(3 * stepBytes + size + 64);
    this.kernels = kernels;
    this.memory = Buffer.from(shared.buffer);
    this.given = from;
    this.begin = from + stepBytes;
    // What is put last may go beyond by so much.
    this.end = this.begin + size;
    this.at = this.begin;
    this.emit = emit;
  }

  /** How many bytes were put so far. */
  get written(): number {
    return this.emitted + this.at - this.begin;
  }

  /** Puts text of Latin-1, no more than some kilobytes. */
  put(text: string): void {
    // Short ones are written sooner than the call for long ones is made.
    if (text.length > 16) this.at += this.memory.write(text, this.at, 'latin1');
    else for (let i = 0; i < text.length; i++) this.memory[this.at++] = text.charCodeAt(i);
    if (this.at >= this.end) this.flush();
  }

  /** Puts bytes with a backslash before what needs one between the single quotes of a string of SQL. */
  putEscaped(bytes: Uint8Array): void {
    for (let from = 0; from < bytes.length; from += stepBytes) {
      const some = bytes.length <= stepBytes ? bytes : bytes.subarray(from, from + stepBytes);
      this.memory.set(some, this.given);
      this.at += this.kernels.escapeInto(this.given, some.length, this.at);
      if (this.at >= this.end) this.flush();
    }
  }

  /** Passes on what is there. */
  flush(): void {
    if (this.at === this.begin) return;
    this.emitted += this.at - this.begin;
    this.emit(this.memory.subarray(this.begin, this.at));
    this.at = this.begin;
  }
}

import { findWasm, wasm } from './wasm.js';

/** What kernels/ says in AssemblyScript. Places and sizes are bytes of the memory. */
export interface Kernels {
  escapeInto(from: number, size: number, to: number): number;
  find(table: number, from: number, size: number, whole: number, out: number, most: number): number;
  part(places: number, many: number, from: number, size: number, out: number, most: number): number;
  rows(shift: number, until: number, state: number): number;
  splice(from: number, size: number, list: number, many: number, to: number, most: number): number;
  move(to: number, from: number, size: number): void;
}

/** A memory that several threads may work in; it can be handed to another. */
export interface SharedMemory {
  readonly buffer: SharedArrayBuffer;
}

/** What is used of it here; Node's types do not describe it. */
declare const WebAssembly: {
  readonly Module: new (bytes: Uint8Array) => object;
  readonly Memory: new (size: { initial: number; maximum: number; shared: true }) => SharedMemory;
  readonly Instance: new (
    module: object,
    imports: { env: { memory: SharedMemory } },
  ) => { readonly exports: unknown };
};

const pageBytes = 64 * 1024;
/** The tables of the modules themselves are below. */
const own = pageBytes;

let compiled: object | undefined;

/** The kernels with a memory of their own. @param size bytes of it; they are behind `from` */
export function kernelsWith(size: number): { kernels: Kernels; shared: SharedMemory; from: number } {
  compiled ??= new WebAssembly.Module(Buffer.from(wasm, 'base64'));
  const pages = Math.ceil((own + size) / pageBytes);
  const shared = new WebAssembly.Memory({ initial: pages, maximum: pages, shared: true });
  const { exports } = new WebAssembly.Instance(compiled, { env: { memory: shared } });
  return { kernels: exports as Kernels, shared, from: own };
}

/** What finds patterns, for another thread than the one that has the kernels in the same memory; for one such thread. */
export function finderIn(shared: SharedMemory): Pick<Kernels, 'find'> {
  const module = new WebAssembly.Module(Buffer.from(findWasm, 'base64'));
  return new WebAssembly.Instance(module, { env: { memory: shared } }).exports as Pick<Kernels, 'find'>;
}

import { wasm } from './wasm.js';

/** What kernels/ says in AssemblyScript. Places and sizes are bytes of the memory. */
export interface Kernels {
  escapeInto(from: number, size: number, to: number): number;
  find(table: number, from: number, size: number, whole: number, out: number, most: number): number;
  rows(shift: number, until: number, state: number): number;
  splice(from: number, size: number, list: number, many: number, to: number, most: number): number;
}

/** What is used of it here; Node's types do not tell of it. */
declare const WebAssembly: {
  readonly Module: new (bytes: Uint8Array) => object;
  readonly Instance: new (module: object) => { readonly exports: unknown };
};

const pageBytes = 64 * 1024;
/** The module's own tables lie below. */
const own = pageBytes;

let compiled: object | undefined;

/** The kernels with a memory of their own. @param size bytes of it; they lie behind `from` */
export function kernelsWith(size: number): { kernels: Kernels; memory: Buffer; from: number } {
  compiled ??= new WebAssembly.Module(Buffer.from(wasm, 'base64'));
  const exports = new WebAssembly.Instance(compiled).exports as Kernels & {
    readonly memory: { readonly buffer: ArrayBuffer; grow(pages: number): number };
  };
  exports.memory.grow(Math.ceil((own + size) / pageBytes));
  return { kernels: exports, memory: Buffer.from(exports.memory.buffer), from: own };
}

// Loops over bytes that are too slow in JavaScript, in AssemblyScript: a language with the looks of TypeScript that is
// compiled to WebAssembly. "npm run kernels" writes what comes of it to src/core/kernels/wasm.ts.

export { escapeInto } from './escape';
export { find, part } from './find';
export { rows } from './rows';
export { move, splice } from './edits';

// Compiles the kernels and writes them to src/core/kernels/wasm.ts, or, with --check, says whether it holds them.
import { readFileSync, writeFileSync } from 'node:fs';
import { fileURLToPath } from 'node:url';
import asc from 'assemblyscript/asc';

const target = fileURLToPath(new URL('../src/core/kernels/wasm.ts', import.meta.url));
const source = fileURLToPath(new URL('index.ts', import.meta.url));
let compiled = Buffer.alloc(0);
const { error, stderr } = await asc.main(
  [source, '-O3', '--noAssert', '--runtime', 'stub', '--enable', 'simd', '--outFile', 'kernels.wasm'],
  {
    writeFile: (_name: string, content: string | Uint8Array) => {
      compiled = Buffer.from(content);
    },
  },
);
if (error) throw new Error(stderr.toString(), { cause: error });
const lines = compiled.toString('base64').match(/.{1,100}/g)!;
const text = `// Written by "npm run kernels" from kernels/.

/** The kernels as WebAssembly, in Base64. */
export const wasm = [
${lines.map(line => `  '${line}',`).join('\n')}
].join('');
`;
if (!process.argv.includes('--check')) writeFileSync(target, text);
else if (readFileSync(target, 'utf8') !== text)
  throw new Error('src/core/kernels/wasm.ts is not what kernels/ says: run "npm run kernels"');

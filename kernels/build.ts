// Compiles the kernels and writes them to src/core/kernels/wasm.ts, or, with --check, says whether it holds them.
import { readFileSync, writeFileSync } from 'node:fs';
import { fileURLToPath } from 'node:url';
import asc from 'assemblyscript/asc';

const target = fileURLToPath(new URL('../src/core/kernels/wasm.ts', import.meta.url));

/** What comes of a source file, in lines of Base64. @param base where in the memory its own tables lie */
async function compiled(file: string, base: number): Promise<string> {
  let bytes = Buffer.alloc(0);
  const source = fileURLToPath(new URL(file, import.meta.url));
  const memory = ['--importMemory', '--sharedMemory', '--initialMemory', '1', '--maximumMemory', '65536'];
  const { error, stderr } = await asc.main(
    [source, '-O3', '--noAssert', '--runtime', 'stub', '--enable', 'simd', '--enable', 'threads'].concat(
      memory,
      '--memoryBase',
      String(base),
      '--outFile',
      'kernels.wasm',
    ),
    {
      writeFile: (_name: string, content: string | Uint8Array) => {
        bytes = Buffer.from(content);
      },
    },
  );
  if (error) throw new Error(stderr.toString(), { cause: error });
  const lines = bytes.toString('base64').match(/.{1,100}/g)!;
  return lines.map(line => `  '${line}',`).join('\n');
}

const text = `// Written by "npm run kernels" from kernels/.

/** The kernels as WebAssembly, in Base64. */
export const wasm = [
${await compiled('index.ts', 1024)}
].join('');

/** One of them on its own, for another thread in the same memory: its tables are elsewhere. */
export const findWasm = [
${await compiled('find.ts', 32 * 1024)}
].join('');
`;
if (!process.argv.includes('--check')) writeFileSync(target, text);
else if (readFileSync(target, 'utf8') !== text)
  throw new Error('src/core/kernels/wasm.ts is not what kernels/ says: run "npm run kernels"');

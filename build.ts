// Builds the program into dist/: our code and the packages that it uses, in few files, since a command that is made of
// hundreds takes half a second to begin. What a command does not use is in files of its own, and read by those that do.
import { readdirSync, readFileSync, rmSync, writeFileSync } from 'node:fs';
import { build, type Plugin } from 'esbuild';

/**
 * What measures texts for columns makes a segmenter and a pattern of all emoji as soon as it is read: 40 ms, for what is
 * seldom needed.
 */
const laterSegmenter: Plugin = {
  name: 'later segmenter',
  setup({ onLoad }) {
    onLoad({ filter: /string-width\/index\.js$/ }, ({ path }) => {
      const contents = readFileSync(path, 'utf8')
        .replace(
          'const segmenter = new Intl.Segmenter();',
          'let made; const segmenter = { segment: text => (made ??= new Intl.Segmenter()).segment(text) };',
        )
        .replace(
          /^const rgiEmojiRegex = (\/.*\/v);$/m,
          'let emoji; const rgiEmojiRegex = { test: text => (emoji ??= $1).test(text) };',
        );
      return { contents };
    });
  },
};

const folder = 'dist';
rmSync(folder, { recursive: true, force: true });
const { metafile } = await build({
  entryPoints: ['src/cli/main.ts', 'src/ends/database/dump/read-ahead-thread.ts'],
  outbase: 'src',
  outdir: folder,
  chunkNames: 'chunks/[name]-[hash]',
  bundle: true,
  splitting: true,
  platform: 'node',
  target: 'node20',
  format: 'esm',
  metafile: true,
  logLevel: 'warning',
  // It has machine code of its own for its ciphers, and takes twice as long without.
  external: ['ssh2', 'playwright-core'],
  plugins: [laterSegmenter],
  // What packages in the older form know on their own.
  define: { __dirname: 'import.meta.dirname', __filename: 'import.meta.filename' },
  banner: {
    js: "import { createRequire as requireFrom } from 'node:module'; const require = requireFrom(import.meta.url);",
  },
});

/** The folders of the packages of which something is in the output. */
const packages = new Set(
  Object.values(metafile.outputs)
    .flatMap(({ inputs }) => Object.keys(inputs))
    .flatMap(path => /^(.*node_modules\/(?:@[^/]+\/)?[^/]+)\//.exec(path)?.[1] ?? []),
);

/** A package's name, version and licence, with the words of it. */
function licenceOf(path: string): string {
  const { name, version, license } = JSON.parse(readFileSync(`${path}/package.json`, 'utf8'));
  const file = readdirSync(path).find(one => /^licen[cs]e(?:\.|$)/i.test(one));
  const words = file === undefined ? '' : readFileSync(`${path}/${file}`, 'utf8');
  return `${name} ${version}, ${license}\n\n${words.trim()}\n`;
}

const parts = [...packages].sort().map(licenceOf);
writeFileSync(
  `${folder}/LICENSES.txt`,
  `The files in this folder hold parts of these packages.\n\n${parts.join(`\n${'-'.repeat(100)}\n\n`)}`,
);

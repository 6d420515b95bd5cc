import assert from 'node:assert/strict';
import { spawnSync } from 'node:child_process';
import {
  cpSync,
  existsSync,
  mkdirSync,
  readdirSync,
  readFileSync,
  rmSync,
  symlinkSync,
  writeFileSync,
} from 'node:fs';
import { dirname, join } from 'node:path';
import { test } from 'node:test';
import { fileURLToPath } from 'node:url';
import { commandPages, writtenPages } from '../docs/write-pages.js';
import { catalogue } from '../src/core/findings/catalogue/catalogue.js';
import { pageFindings } from '../src/core/findings/catalogue/pages.js';
import { siteFindings } from '../src/core/findings/catalogue/site.js';
import { stepFindings } from '../src/core/findings/catalogue/steps.js';
import { folder, program, run } from './help/program.js';

const root = fileURLToPath(new URL('..', import.meta.url));

test('the linter refuses every import against the one way', t => {
  const against: [file: string, source: string][] = [
    ['src/core/x.ts', "import '../ends/http/web-site.js';\n"],
    ['src/core/sql/x.ts', "import '../../steps/go.js';\n"],
    ['src/core/x.ts', "import 'node:fs';\n"],
    ['src/core/x.ts', "import { randomBytes } from 'node:crypto';\nrandomBytes(1);\n"],
    ['src/core/x.ts', 'console.log(1);\n'],
    ['src/ends/x.ts', "import '../steps/go.js';\n"],
    ['src/ends/files/x.ts', "import '../../cli/terminal.js';\n"],
    ['src/steps/x.ts', "import '../cli/terminal.js';\n"],
    ['src/standins/x.ts', "import '../ends/http/web-site.js';\n"],
  ];
  const copy = folder(t);
  cpSync(`${root}biome.json`, join(copy, 'biome.json'));
  for (const [file, source] of against) {
    mkdirSync(dirname(join(copy, file)), { recursive: true });
    writeFileSync(join(copy, file), source);
    const lint = spawnSync(`${root}node_modules/.bin/biome`, ['lint', '.'], { cwd: copy, encoding: 'utf8' });
    rmSync(join(copy, file));
    assert.match(lint.stdout + lint.stderr, /noRestricted/, `${file}: ${source}`);
  }
});

test('the linter refuses circles of files and of rooms', t => {
  const circles: Record<string, [file: string, source: string][]> = {
    'circle-of-files': [
      ['src/core/sql/x.ts', "import { y } from './y.js';\nexport const x = () => y;\n"],
      [
        'src/core/sql/y.ts',
        "import type { x } from './x.js';\nexport const y = null as unknown as typeof x;\n",
      ],
    ],
    'circle-of-rooms': [
      ['src/core/sql/x.ts', "export { y } from '../json/y.js';\n"],
      ['src/core/sql/z.ts', 'export const z = 1;\n'],
      ['src/core/json/y.ts', 'export const y = 1;\n'],
      ['src/core/json/w.ts', "export { z } from '../sql/z.js';\n"],
    ],
  };
  for (const [rule, files] of Object.entries(circles)) {
    const copy = folder(t);
    for (const name of ['.dependency-cruiser.mjs', 'tsconfig.json', 'package.json'])
      cpSync(`${root}${name}`, join(copy, name));
    symlinkSync(`${root}node_modules`, join(copy, 'node_modules'));
    for (const [file, source] of files) {
      mkdirSync(dirname(join(copy, file)), { recursive: true });
      writeFileSync(join(copy, file), source);
    }
    const lint = spawnSync('node_modules/.bin/depcruise', ['src'], { cwd: copy, encoding: 'utf8' });
    assert.notEqual(lint.status, 0, rule);
    assert.match(lint.stdout + lint.stderr, new RegExp(`error ${rule}:`), rule);
  }
});

test('the pages of the commands say what --help says, with two examples each', () => {
  const pages = commandPages();
  assert.ok(pages.size >= 13);
  assert.deepEqual(
    readdirSync(`${root}docs/commands`).sort(),
    [...pages.keys()].map(name => `${name}.md`).sort(),
  );
  for (const [name, page] of pages) {
    assert.equal(
      readFileSync(`${root}docs/commands/${name}.md`, 'utf8'),
      page,
      `npm run docs writes ${name}.md anew`,
    );
    const examples = page.split('Examples:')[1]?.match(/able-porter \w+/g) ?? [];
    assert.ok(examples.length >= 2, name);
  }
});

test('the shell completes commands and options with the printed script', {
  skip: spawnSync('bash').error && 'no bash',
}, () => {
  const script = `able-porter() { '${process.execPath}' '${program}' "$@"; }
source <(able-porter completion)
complete_words() { COMP_WORDS=("$@"); COMP_CWORD=$(($# - 1)); _able-porter_yargs_completions; echo "\${COMPREPLY[@]}"; }
complete_words able-porter st
complete_words able-porter rewrite --wh
`;
  const { stdout } = spawnSync('bash', ['-c', script], { encoding: 'utf8', env: { PATH: process.env.PATH } });
  assert.equal(stdout, 'start status\n--where-left\n');
});

test('every link in the documentation leads to a file', () => {
  const pages = [
    'README.md',
    'CONTRIBUTING.md',
    ...readdirSync(`${root}docs`)
      .filter(name => name.endsWith('.md'))
      .map(name => `docs/${name}`),
  ];
  for (const page of pages) {
    for (const [, link] of readFileSync(root + page, 'utf8').matchAll(/\]\((?!https?:)([^)#]+)/g))
      assert.ok(existsSync(join(root, page, '..', link!)), `${page}: ${link}`);
  }
});

test('every finding of the catalogue is made somewhere, and the documentation is written from it', () => {
  const all = ['src/steps', 'src/core', 'src/ends']
    .flatMap(folder =>
      readdirSync(root + folder, { recursive: true })
        .map(String)
        .filter(name => name.endsWith('.ts') && !name.startsWith('findings/'))
        .map(name => readFileSync(`${root}${folder}/${name}`, 'utf8')),
    )
    .join('');
  const codes = Object.keys(catalogue);
  for (const code of codes) assert.ok(all.includes(`'${code}'`), `nothing makes ${code}`);
  for (const table of [stepFindings, pageFindings, siteFindings])
    assert.deepEqual(Object.keys(table), Object.keys(table).toSorted());
  for (const [path, page] of writtenPages())
    assert.equal(readFileSync(`${root}docs/${path}`, 'utf8'), page, `npm run docs writes ${path} again`);
});

test('the version and the help come without a sheet', async () => {
  const version = await run(['--version']);
  assert.match(version.stdout, /^\d+\.\d+\.\d+\n$/);
  assert.equal((await run([])).code, 2);
  assert.equal((await run(['nonsense'])).code, 2);
  assert.match((await run(['--help'])).stdout, /able-porter deliver/);
});

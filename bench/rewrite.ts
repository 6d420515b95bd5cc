/**
 * Times `able-porter rewrite` beside sed and perl doing the plain (unsafe) replacement of the same text, in one
 * run on the same dump, and prints wall times, peak memory and ratios. Usage:
 *   npm run bench:rewrite -- [--size 256] [--runs 3] [--kind mixed|none|small|long|single]
 */
import { spawnSync } from 'node:child_process';
import { mkdtempSync, rmSync } from 'node:fs';
import { tmpdir } from 'node:os';
import { join } from 'node:path';
import { parseArgs } from 'node:util';
import { dumpKinds, writeDump } from './make-dump.js';

const { values } = parseArgs({
  options: {
    size: { type: 'string', default: '256' },
    runs: { type: 'string', default: '3' },
    kind: { type: 'string', default: 'mixed' },
  },
});
const megabytes = Number(values.size);
const runs = Number(values.runs);
const kind = dumpKinds.find(one => one === values.kind) ?? 'mixed';
const folder = mkdtempSync(join(tmpdir(), 'able-porter-bench-'));
const dump = join(folder, 'old.sql');
const out = join(folder, 'new.sql');
const old = 'https://club.saltmarsh.example/site';
const next = 'https://saltmarshrowing.example';

interface Contender {
  readonly name: string;
  readonly command: readonly string[];
}

const quoted = (text: string) => text.replaceAll('.', '\\.');
const contenders: Contender[] = [
  {
    name: 'able-porter rewrite',
    command: [
      'node',
      'dist/cli/main.js',
      'rewrite',
      dump,
      '--from',
      old,
      '--to',
      next,
      '--out',
      out,
      '--yes',
      '--quiet',
      '--json',
    ],
  },
  { name: 'perl -pe', command: ['sh', '-c', `perl -pe 's{${quoted(old)}}{${next}}g' ${dump} > ${out}`] },
  { name: 'sed', command: ['sh', '-c', `sed 's|${quoted(old)}|${next}|g' ${dump} > ${out}`] },
  { name: 'cat', command: ['sh', '-c', `cat ${dump} > ${out}`] },
];

/** Runs a command once; gives wall seconds and peak resident memory in megabytes. */
function time(command: readonly string[]): { seconds: number; memory: number } {
  const began = performance.now();
  const { status, stderr } = spawnSync('/usr/bin/time', ['-f', '%M', ...command], {
    stdio: ['ignore', 'ignore', 'pipe'],
  });
  const seconds = (performance.now() - began) / 1000;
  if (status !== 0) throw new Error(`${command[0]} ended with ${status}: ${stderr}`);
  return { seconds, memory: Number(String(stderr).trim().split('\n').at(-1)) / 1024 };
}

const median = (list: number[]) => [...list].sort((a, b) => a - b)[Math.floor(list.length / 2)]!;

try {
  writeDump(dump, megabytes * 1e6, kind, old);
  time(contenders.at(-1)!.command);
  const measured = new Map(contenders.map(one => [one, { seconds: [] as number[], memory: [] as number[] }]));
  for (let run = 0; run < runs; run++) {
    for (const [contender, figures] of measured) {
      // To remove a large file takes some disks longer than to write it.
      rmSync(out, { force: true });
      spawnSync('sync');
      const { seconds, memory } = time(contender.command);
      figures.seconds.push(seconds);
      figures.memory.push(memory);
    }
  }
  const ours = median([...measured.values()][0]!.seconds);
  console.log(`${megabytes} MB, ${kind}, median of ${runs} runs`);
  for (const [{ name }, { seconds, memory }] of measured) {
    const wall = median(seconds);
    const ratio = name.startsWith('able') ? '' : `   able-porter / ${name} = ${(ours / wall).toFixed(2)}`;
    console.log(
      `${name.padEnd(22)} ${wall.toFixed(2).padStart(7)} s ${median(memory).toFixed(0).padStart(6)} MB${ratio}`,
    );
  }
} finally {
  rmSync(folder, { recursive: true, force: true });
}

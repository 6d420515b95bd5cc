// Carries 2,500 files of 60 MB in all over SSH, through a line of 20 ms each way and without delay, beside OpenSSH's own
// programs in the same run. Needs sshd, scp, ssh and tar. Usage: npm run bench:carry [milliseconds each way]
import { spawn } from 'node:child_process';
import { mkdirSync, mkdtempSync, rmSync, writeFileSync } from 'node:fs';
import { tmpdir } from 'node:os';
import { join } from 'node:path';
import { Relay } from '../test/help/relay.js';
import { ownSsh } from '../test/real/ssh.js';

const program = new URL('../dist/cli/main.js', import.meta.url).pathname;
const delays = process.argv[2] === undefined ? [20, 0] : [Number(process.argv[2])];

const root = mkdtempSync(join(tmpdir(), 'able-porter-bench-'));
const ending: (() => unknown)[] = [];
const t = { after: (work: () => unknown) => ending.push(work) } as never;

function makeTree(): void {
  let seed = 7;
  const random = () => {
    seed = (seed * 1_103_515_245 + 12_345) % 2 ** 31;
    return seed / 2 ** 31;
  };
  const sizes = Array.from({ length: 2500 }, () => Math.round(200 + 60_000 * random() ** 4));
  const rest = 60_000_000 - sizes.reduce((sum, size) => sum + size, 0);
  for (let i = 0; i < 10; i++) sizes[i * 250]! += Math.max(0, Math.round(rest / 10));
  for (const [i, size] of sizes.entries()) {
    const folder = join(root, 'old', `${i % 25}`, `${i % 7}`);
    mkdirSync(folder, { recursive: true });
    writeFileSync(join(folder, `file-${i}`), Buffer.alloc(size, `${i} creek tide `));
  }
}

/** Runs a command; gives the seconds that it took. */
async function timed(command: string): Promise<{ seconds: number }> {
  const began = performance.now();
  const child = spawn('/usr/bin/env', ['bash', '-c', `${command}; code=$?; exit $code`], {
    stdio: ['ignore', 'ignore', 'pipe'],
    env: { ...process.env, HOME: root },
  });
  let said = '';
  child.stderr.on('data', chunk => {
    said += chunk;
  });
  const code = await new Promise(resolve => child.once('exit', resolve));
  if (code !== 0) throw new Error(`${command}: ${said}`);
  return { seconds: (performance.now() - began) / 1000 };
}

async function measure(delay: number): Promise<void> {
  const results: [string, number][] = [];
  for (const restricted of [true, false]) {
    const ssh = await ownSsh(t, join(root, `${delay}`), restricted);
    const relay = new Relay(ssh.port, delay);
    const port = await relay.listen();
    const own = `-i ${ssh.key} -P ${port} -o StrictHostKeyChecking=no -o UserKnownHostsFile=/dev/null -q`;
    const there = `${ssh.user}@127.0.0.1`;
    const sheet = join(root, `move-${delay}-${restricted}`);
    mkdirSync(sheet);
    writeFileSync(
      join(sheet, 'move.yaml'),
      `name: bench\nold: { address: https://a.example, files: "sftp://${there}:${port}${root}/old", login: { key: ${ssh.key}, host-key: "${ssh.fingerprint}" } }\nnew: { address: https://b.example, files: ./new }\n`,
    );
    const pack = `cd ${sheet} && node ${program} pack --quiet > /dev/null`;
    if (restricted) {
      results.push(['able-porter, SFTP only', (await timed(pack)).seconds]);
      results.push([
        'scp -r',
        (await timed(`scp ${own} -r ${there}:${root}/old ${root}/scp-${delay}`)).seconds,
      ]);
    } else {
      results.push(['able-porter, with a shell', (await timed(pack)).seconds]);
      const tar = `mkdir ${root}/tar-${delay} && ssh ${own.replace('-P', '-p')} ${there} 'tar -cf - -C ${root}/old .' | tar -xf - -C ${root}/tar-${delay}`;
      results.push(['tar through ssh', (await timed(tar)).seconds]);
    }
    await relay.close();
  }
  const [sftp, scp, shell, tar] = results.map(([, seconds]) => seconds) as [number, number, number, number];
  process.stdout.write(`\n${delay} ms each way\n`);
  for (const [name, seconds] of results)
    process.stdout.write(`  ${name.padEnd(28)} ${seconds.toFixed(1)} s\n`);
  process.stdout.write(`  scp -r takes ${(scp / sftp).toFixed(1)} × able-porter's time over SFTP\n`);
  process.stdout.write(
    `  able-porter with a shell takes ${(shell / tar).toFixed(2)} × the time of tar through ssh\n`,
  );
}

try {
  makeTree();
  for (const delay of delays) await measure(delay);
} finally {
  for (const work of ending.reverse()) await work();
  rmSync(root, { recursive: true, force: true });
}

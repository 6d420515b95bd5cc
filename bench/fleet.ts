// Moves a fleet of made-up clubs between stand-in hosts that take 2 ms for each answer: one after the other by a shell loop, then
// by `fleet go` with 1, 2 and 4 sites at once, with half and a quarter of the sites, and by three workers at a queue.
// Usage: npm run bench:fleet -- [SITES]
import { type ChildProcess, execFileSync, spawn } from 'node:child_process';
import { mkdirSync, mkdtempSync, readdirSync, readFileSync, rmSync } from 'node:fs';
import { createServer } from 'node:net';
import { tmpdir } from 'node:os';
import { join } from 'node:path';
import type { Misbehaviour } from '../src/standins/hosting/misbehaviour.js';
import { StandinSftpServer } from '../src/standins/hosting/sftp-server.js';
import { makeFleet, siteName } from '../test/help/fleet.js';

const program = new URL('../dist/cli/main.js', import.meta.url).pathname;
const sites = Number(process.argv[2] ?? 60);
/** By the loop alone; what each takes is the same. */
const loopSites = Math.min(12, sites);
const account = { user: 'porter', password: "p'w %é" };

interface Run {
  readonly seconds: number;
  /** The largest that a site's process was, in MB: the median of all, and the largest. */
  readonly memory: string;
}

/** Makes a fleet on two new hosts, and works on it. */
async function withFleet(count: number, work: (cwd: string, root: string) => Promise<void>): Promise<Run> {
  const root = mkdtempSync(join(tmpdir(), 'able-porter-bench-'));
  for (const name of ['old', 'new']) mkdirSync(join(root, name));
  const servers = ['old', 'new'].map(name => new StandinSftpServer(join(root, name), account, true));
  for (const { misbehaviour } of servers as { misbehaviour: Misbehaviour }[]) misbehaviour.slow = 2;
  const [old, next] = await Promise.all(servers.map(server => server.listen()));
  const end = (port: number | undefined, { fingerprint }: StandinSftpServer) => ({
    place: `sftp://${account.user}@127.0.0.1:${port}`,
    login: { password: '${PW}', 'host-key': fingerprint },
  });
  const hosts = { old: end(old, servers[0]!), new: end(next, servers[1]!) };
  const cwd = await makeFleet(root, count, () => hosts);
  execFileSync('node', [program, 'fleet', 'status', '--quiet'], { cwd, stdio: 'ignore' });
  const peaks = new Map<number, number>();
  const looking = setInterval(() => lookAtMemory(peaks, root), 100);
  const began = performance.now();
  try {
    await work(cwd, root);
    const seconds = (performance.now() - began) / 1000;
    const all = [...peaks.values()].sort((a, b) => a - b);
    return { seconds, memory: `${all[all.length >> 1]} MB, at most ${all.at(-1)} MB` };
  } finally {
    clearInterval(looking);
    await Promise.all(servers.map(server => server.close()));
    rmSync(root, { recursive: true, force: true });
  }
}

/** Notes how large the processes are that work on sheets of a folder. */
function lookAtMemory(peaks: Map<number, number>, root: string): void {
  for (const pid of readdirSync('/proc').map(Number).filter(Boolean)) {
    try {
      const command = readFileSync(`/proc/${pid}/cmdline`, 'utf8');
      if (!command.includes('move.yaml') || !command.includes(root)) continue;
      const [, kilobytes] = /VmHWM:\s+(\d+)/.exec(readFileSync(`/proc/${pid}/status`, 'utf8')) ?? [];
      peaks.set(pid, Math.round(Number(kilobytes) / 1000));
    } catch {
      // It has ended.
    }
  }
}

async function node(cwd: string, ...args: string[]): Promise<void> {
  const child = spawn('node', [program, ...args], {
    cwd,
    stdio: ['ignore', 'ignore', 'inherit'],
    env: environment(),
  });
  const code = await new Promise(resolve => child.once('exit', resolve));
  if (code !== 0) throw new Error(`${args.join(' ')} ended with ${code}`);
}

function environment(): NodeJS.ProcessEnv {
  const secrets = Array.from({ length: sites }, (_, i) => [`DB_CLUB_${String(i + 1).padStart(2, '0')}`, 'x']);
  return { ...process.env, PW: account.password, ...Object.fromEntries(secrets) };
}

const go = (atOnce: number) => (cwd: string) =>
  node(cwd, 'fleet', 'go', '--yes', '--quiet', '--at-once', String(atOnce), '--per-host', '12');

async function byLoop(cwd: string, root: string): Promise<void> {
  for (let i = 1; i <= loopSites; i++) {
    const sheet = join(root, 'fleet/moves', siteName(i), 'move.yaml');
    await node(cwd, 'go', '--yes', '--quiet', '--sheet', sheet);
  }
}

async function byWorkers(cwd: string): Promise<void> {
  const port = await new Promise<number>(resolve => {
    const server = createServer();
    server.listen(0, '127.0.0.1', () => {
      const { port } = server.address() as { port: number };
      server.close(() => resolve(port));
    });
  });
  const started: ChildProcess[] = [];
  const start = (command: string, args: string[]) => {
    started.push(spawn(command, args, { cwd, stdio: 'ignore', env: environment() }));
  };
  start('redis-server', ['--port', String(port), '--save', '', '--dir', cwd]);
  const queue = ['--queue', `redis://127.0.0.1:${port}`];
  await new Promise(resolve => setTimeout(resolve, 500));
  try {
    for (let i = 0; i < 3; i++)
      start('node', [program, 'fleet', 'work', ...queue, '--at-once', '2', '--per-host', '12', '--quiet']);
    await node(cwd, 'fleet', 'go', '--yes', '--quiet', ...queue);
  } finally {
    const gone = started.map(child => new Promise(resolve => child.once('exit', resolve)));
    for (const child of started.reverse()) child.kill();
    await Promise.all(gone);
  }
}

const show = (what: string, { seconds, memory }: Run, count = sites) =>
  console.log(
    `${what.padEnd(44)} ${seconds.toFixed(0).padStart(4)} s  ${(seconds / count).toFixed(2)} s a site  ${memory}`,
  );

console.log(`${sites} sites, hosts that take 2 ms for each answer`);
show(`${loopSites} one after the other, by a shell loop`, await withFleet(loopSites, byLoop), loopSites);
for (const atOnce of [1, 2, 4]) show(`fleet go --at-once ${atOnce}`, await withFleet(sites, go(atOnce)));
for (const part of [4, 2]) {
  const count = Math.floor(sites / part);
  show(`fleet go --at-once 4, ${count} sites`, await withFleet(count, go(4)), count);
}
show('three workers at a queue, two sites each', await withFleet(sites, byWorkers));

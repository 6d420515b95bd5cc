// Carries 2,500 files of 60 MB in all over SSH, through a line of 20 ms each way and without delay, beside OpenSSH's own
// programs in the same run; over FTP with many connections and with one; and a tree of 50,000 files for the memory. Needs
// sshd, scp, ssh, tar and proftpd; through a hatch, beside FTP and SSH, nginx and PHP-FPM as well. Usage: npm run
// bench:carry -- [ssh20] [ssh0] [ftp20] [hatch20] [memory]
import { spawn } from 'node:child_process';
import {
  cpSync,
  mkdirSync,
  mkdtempSync,
  readdirSync,
  readFileSync,
  rmSync,
  truncateSync,
  writeFileSync,
} from 'node:fs';
import { tmpdir } from 'node:os';
import { join } from 'node:path';
import { Relay } from '../test/help/relay.js';
import { ownFtp } from '../test/real/ftp.js';
import { startHost } from '../test/real/hatch-hosts.js';
import { ownSsh } from '../test/real/ssh.js';
import { FtpRelay } from './ftp-relay.js';

const program = new URL('../dist/cli/main.js', import.meta.url).pathname;

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

/** Runs a command; gives the seconds that it took and the most memory of a program in it, in MB. */
async function timed(command: string, password = ''): Promise<{ seconds: number; memory: number }> {
  const began = performance.now();
  const child = spawn('/usr/bin/env', ['bash', '-c', `${command}; code=$?; exit $code`], {
    stdio: ['ignore', 'ignore', 'pipe'],
    env: { ...process.env, HOME: root, PW: password },
    detached: true,
  });
  let memory = 0;
  const watching = setInterval(() => {
    memory = Math.max(memory, ...memoryOf(child.pid!));
  }, 50);
  let said = '';
  child.stderr.on('data', chunk => {
    said += chunk;
  });
  const code = await new Promise(resolve => child.once('exit', resolve));
  clearInterval(watching);
  if (code !== 0) throw new Error(`${command}: ${said}`);
  return { seconds: (performance.now() - began) / 1000, memory };
}

/** The most memory that each process of a group has had so far, in MB. */
function memoryOf(group: number): number[] {
  const seen: number[] = [];
  for (const name of readdirSync('/proc').filter(one => /^\d+$/.test(one))) {
    try {
      const fields = readFileSync(`/proc/${name}/stat`, 'utf8').split(') ')[1]!.split(' ');
      if (Number(fields[2]) !== group) continue;
      const [, peak] = /^VmHWM:\s+(\d+)/m.exec(readFileSync(`/proc/${name}/status`, 'utf8')) ?? [];
      seen.push(Number(peak ?? 0) / 1000);
    } catch {
      // It has ended meanwhile.
    }
  }
  return seen;
}

interface Figure {
  readonly name: string;
  readonly seconds: number;
  readonly memory: number;
}

function show(title: string, list: readonly Figure[], ...ratios: string[]): void {
  const lines = list.map(
    ({ name, seconds, memory }) =>
      `  ${name.padEnd(30)} ${seconds.toFixed(1).padStart(6)} s ${Math.round(memory).toString().padStart(5)} MB`,
  );
  process.stdout.write(`\n${title}\n${[...lines, ...ratios.map(text => `  ${text}`)].join('\n')}\n`);
}

let moves = 0;

/** Packs the tree from a far place with the built program. */
async function packed(name: string, place: string, login: string, password = '', more = ''): Promise<Figure> {
  const sheet = join(root, `move-${moves++}`);
  mkdirSync(sheet);
  writeFileSync(
    join(sheet, 'move.yaml'),
    `name: bench\nold: { address: https://a.example, files: "${place}/old", login: ${login}${more} }\nnew: { address: https://b.example, files: ./new }\n`,
  );
  return { name, ...(await timed(`cd ${sheet} && exec node ${program} pack --quiet > /dev/null`, password)) };
}

async function overSsh(delay: number): Promise<void> {
  const list: Record<string, Figure> = {};
  for (const restricted of [false, true]) {
    const ssh = await ownSsh(t, join(root, `${delay}`), restricted);
    const relay = new Relay(ssh.port, delay);
    const port = await relay.listen();
    const own = `-i ${ssh.key} -P ${port} -o StrictHostKeyChecking=no -o UserKnownHostsFile=/dev/null -q`;
    const there = `${ssh.user}@127.0.0.1`;
    const login = `{ key: ${ssh.key}, host-key: "${ssh.fingerprint}" }`;
    const place = `sftp://${there}:${port}${root}`;
    if (restricted) {
      list.sftp = await packed('able-porter, SFTP only', place, login);
      const scp = await timed(`scp ${own} -r ${there}:${root}/old ${root}/scp-${delay}`);
      list.scp = { name: 'scp -r', ...scp };
    } else {
      list.shell = await packed('able-porter, with a shell', place, login);
      const tar = `mkdir ${root}/tar-${delay} && ssh ${own.replace('-P', '-p')} ${there} 'tar -cf - -C ${root}/old .' | tar -xf - -C ${root}/tar-${delay}`;
      list.tar = { name: 'tar through ssh', ...(await timed(tar)) };
    }
    await relay.close();
  }
  const { sftp, scp, shell, tar } = list as Record<'sftp' | 'scp' | 'shell' | 'tar', Figure>;
  show(
    `SSH, ${delay} ms each way`,
    Object.values(list),
    `scp -r takes ${(scp.seconds / sftp.seconds).toFixed(1)} × able-porter's time over SFTP alone, ${(scp.seconds / shell.seconds).toFixed(1)} × with a shell`,
    `able-porter with a shell takes ${(shell.seconds / tar.seconds).toFixed(2)} × the time of tar through ssh`,
  );
}

async function overFtp(delay: number): Promise<void> {
  // One at a time would take a quarter of an hour for the whole tree.
  mkdirSync(join(root, 'some'));
  mkdirSync(join(root, 'some/old'));
  for (let i = 0; i < 4; i++)
    cpSync(join(root, `old/${i}`), join(root, `some/old/more-${i}`), { recursive: true });
  const list: Figure[] = [];
  for (const clients of [8, 1]) {
    const ftp = await ownFtp(t, root, 'none', { clients });
    const relay = new FtpRelay(ftp.port, delay);
    const port = await relay.listen();
    const place = `ftp://${ftp.user}@127.0.0.1:${port}${root}/some`;
    const name = clients === 1 ? 'one at a time' : `${clients} connections`;
    list.push(await packed(`able-porter, FTP, ${name}`, place, '{ password: "${PW}" }', ftp.password));
    await relay.close();
  }
  const [many, one] = list as [Figure, Figure];
  show(
    `FTP, ${delay} ms each way, 400 files`,
    list,
    `one at a time takes ${(one.seconds / many.seconds).toFixed(1)} × the time`,
  );
}

/** All files over FTP, through a hatch, and over SSH with a shell. */
async function throughHatch(delay: number): Promise<void> {
  const ftp = await ownFtp(t, root, 'none', { clients: 8 });
  const relay = new FtpRelay(ftp.port, delay);
  const place = `ftp://${ftp.user}@127.0.0.1:${await relay.listen()}${root}`;
  const web = new Relay(await startHost(t, 'nginx-fpm', join(root, 'old')), delay);
  const hatch = `, reach: "http://127.0.0.1:${await web.listen()}", hatch: true`;
  const ssh = await ownSsh(t, join(root, 'hatch'), false);
  const line = new Relay(ssh.port, delay);
  const shell = `sftp://${ssh.user}@127.0.0.1:${await line.listen()}${root}`;
  const login = `{ key: ${ssh.key}, host-key: "${ssh.fingerprint}" }`;
  const list = [
    await packed('able-porter, FTP', place, '{ password: "${PW}" }', ftp.password),
    await packed('able-porter, hatch', place, '{ password: "${PW}" }', ftp.password, hatch),
    await packed('able-porter, SSH with a shell', shell, login),
  ];
  for (const one of [relay, web, line]) await one.close();
  const [slow, through, fast] = list as [Figure, Figure, Figure];
  show(
    `Through a hatch, ${delay} ms each way, 2,500 files`,
    list,
    `FTP with eight connections takes ${(slow.seconds / through.seconds).toFixed(1)} × the time of the hatch`,
    `the hatch takes ${(through.seconds / fast.seconds).toFixed(1)} × the time of SSH with a shell`,
  );
}

/** A tree of very many small files, to see that memory does not follow it. */
async function manyFiles(): Promise<void> {
  for (let i = 0; i < 200; i++) {
    mkdirSync(join(root, 'many', 'old', `${i}`), { recursive: true });
    for (let j = 0; j < 250; j++) writeFileSync(join(root, 'many', 'old', `${i}`, `${j}`), 'x'.repeat(200));
  }
  truncateSync(join(root, 'many/old/0/0'), 2 ** 30);
  const list: Figure[] = [];
  for (const restricted of [true, false]) {
    const ssh = await ownSsh(t, join(root, 'large'), restricted);
    const login = `{ key: ${ssh.key}, host-key: "${ssh.fingerprint}" }`;
    const place = `sftp://${ssh.user}@127.0.0.1:${ssh.port}${root}/many`;
    list.push(await packed(restricted ? 'SFTP only' : 'with a shell', place, login));
  }
  show('50,000 files and one of a gigabyte, no delay', list);
}

const parts: Record<string, () => Promise<void>> = {
  ssh20: () => overSsh(20),
  ssh0: () => overSsh(0),
  ftp20: () => overFtp(20),
  hatch20: () => throughHatch(20),
  memory: manyFiles,
};

try {
  makeTree();
  for (const name of process.argv.length > 2 ? process.argv.slice(2) : Object.keys(parts))
    await parts[name]!();
} finally {
  for (const work of ending.reverse()) await work();
  rmSync(root, { recursive: true, force: true });
}

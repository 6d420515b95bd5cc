// A whole move (`go`) of a real CMS between two hosts, each behind a line of its own, beside the same typed by hand in the
// same run: `tar` and the dump program through `ssh`, or a plain FTP client with eight connections; then a second pass after
// twenty changed files and rows, and each step alone. Needs sshd, ssh, tar, MariaDB, PHP, ProFTPD and the CMS.
// Usage: npm run bench:move -- [LINE...], each as DELAY[@RATE][:shell|sftp|ftp] (milliseconds each way, MB a second);
// without any 0 20 80 0@2 20:sftp 20:ftp
import { spawn } from 'node:child_process';
import { mkdirSync, mkdtempSync, readFileSync, rmSync, writeFileSync } from 'node:fs';
import { tmpdir } from 'node:os';
import { dirname, join } from 'node:path';
import { Client } from 'basic-ftp';
import { Relay } from '../test/help/relay.js';
import { cmsFolder, installCms, makeDatabases, passwords } from '../test/real/cms.js';
import { OwnDatabase } from '../test/real/database.js';
import { ownFtp } from '../test/real/ftp.js';
import { ownSsh } from '../test/real/ssh.js';
import { FtpRelay } from './ftp-relay.js';

const program = new URL('../dist/cli/main.js', import.meta.url).pathname;
const root = mkdtempSync(join(tmpdir(), 'able-porter-bench-'));
const ending: (() => unknown)[] = [];
const t = { after: (work: () => unknown) => ending.push(work) } as never;
const [oldAddress, newAddress] = ['https://club.saltmarsh.example/site', 'https://saltmarshrowing.example'];
const steps = ['survey', 'pack', 'rewrite', 'deliver', 'check'];

interface Line {
  readonly text: string;
  readonly delay: number;
  /** Bytes a second. */
  readonly rate: number;
  readonly protocol: 'shell' | 'sftp' | 'ftp';
}

function lineOf(text: string): Line {
  const [, delay, rate, protocol] = /^(\d+)(?:@([\d.]+))?(?::(shell|sftp|ftp))?$/.exec(text) ?? [];
  if (delay === undefined) throw new Error(`${text} is no line: write 20, 20@2 or 20:sftp`);
  return {
    text,
    delay: Number(delay),
    rate: rate === undefined ? Number.POSITIVE_INFINITY : Number(rate) * 1e6,
    protocol: (protocol ?? 'shell') as Line['protocol'],
  };
}

/** Runs a command in a shell. @returns the seconds that it took */
async function timed(command: string, cwd = root): Promise<number> {
  const began = performance.now();
  const child = spawn('bash', ['-c', command], {
    cwd,
    stdio: ['ignore', 'ignore', 'pipe'],
    env: { ...process.env, HOME: root },
  });
  let said = '';
  child.stderr.on('data', chunk => {
    said += chunk;
  });
  const code = await new Promise(resolve => child.once('exit', resolve));
  if (code !== 0) throw new Error(`${command}: ${said}`);
  return (performance.now() - began) / 1000;
}

/** How long each step took, as the journal says. */
function stepsOf(move: string): string {
  const lines = readFileSync(join(move, 'journal.ndjson'), 'utf8').trim().split('\n');
  const done = new Map<string, number>();
  for (const line of lines) {
    const { event, step, seconds } = JSON.parse(line);
    if (event === 'done' && steps.includes(step)) done.set(step, seconds);
  }
  return [...done].map(([step, seconds]) => `${step} ${seconds.toFixed(1)}`).join(', ');
}

interface Host {
  readonly port: number;
  readonly user: string;
  readonly password: string;
}

/** A line that delays the data connections too. */
async function ftpRelayed(port: number, delay: number): Promise<number> {
  const relay = new FtpRelay(port, delay);
  ending.push(() => relay.close());
  return relay.listen();
}

/** Takes a folder and puts it to another host with a plain FTP client, eight connections each. @returns seconds */
async function byFtp(from: Host, to: Host, site: string, target: string): Promise<number> {
  const began = performance.now();
  const open = (host: Host) =>
    Promise.all(
      Array.from({ length: 8 }, async () => {
        const client = new Client();
        await client.access({ host: '127.0.0.1', ...host });
        return client;
      }),
    );
  const [takers, putters] = [await open(from), await open(to)];
  const files: string[] = [];
  const folders = [''];
  for (let folder = folders.shift(); folder !== undefined; folder = folders.shift())
    for (const { name, isDirectory } of await takers[0]!.list(`${site}/${folder}`))
      (isDirectory ? folders : files).push(`${folder}${name}${isDirectory ? '/' : ''}`);
  const aside = join(root, 'by-ftp');
  const each = async (
    clients: readonly Client[],
    work: (client: Client, path: string) => Promise<unknown>,
  ) => {
    const left = [...files];
    await Promise.all(
      clients.map(async client => {
        for (let path = left.shift(); path !== undefined; path = left.shift()) await work(client, path);
      }),
    );
  };
  for (const path of files) mkdirSync(dirname(join(aside, path)), { recursive: true });
  await each(takers, (client, path) => client.downloadTo(join(aside, path), `${site}/${path}`));
  for (const folder of new Set(files.map(path => dirname(path))))
    await putters[0]!.ensureDir(`${target}/${folder}`);
  await each(putters, (client, path) => client.uploadFrom(join(aside, path), `${target}/${path}`));
  for (const client of [...takers, ...putters]) client.close();
  rmSync(aside, { recursive: true });
  return (performance.now() - began) / 1000;
}

async function moved(database: OwnDatabase, line: Line): Promise<void> {
  // A colon ends a field in the FTP server's list of accounts.
  const at = (...parts: string[]) => join(root, line.text.replaceAll(':', '-'), ...parts);
  const relayed = async (port: number) => {
    const relay = new Relay(port, line.delay);
    relay.rate = line.rate;
    ending.push(() => relay.close());
    return relay.listen();
  };
  const ends = [];
  for (const end of ['old', 'new']) {
    const ssh = await ownSsh(t, at(end, 'shell'), false);
    const restricted = line.protocol === 'sftp' ? await ownSsh(t, at(end, 'sftp'), true) : ssh;
    const ftp = line.protocol === 'ftp' ? await ownFtp(t, at(end), 'none', { clients: 20 }) : undefined;
    ends.push({
      ssh,
      port: await relayed(ssh.port),
      own: restricted,
      ownPort: restricted === ssh ? undefined : await relayed(restricted.port),
      ftp: ftp && { port: await ftpRelayed(ftp.port, line.delay), user: 'porter', password: ftp.password },
    });
  }
  const [old, next] = ends as [(typeof ends)[0], (typeof ends)[0]];
  const through = (end: typeof old) =>
    `ssh -i ${end.ssh.key} -p ${end.port} -o StrictHostKeyChecking=no -o UserKnownHostsFile=/dev/null -q ${end.ssh.user}@127.0.0.1`;
  const site = join(root, 'old/site');
  mkdirSync(at('by-hand'));
  database.sql('DROP DATABASE IF EXISTS by_hand; CREATE DATABASE by_hand;');
  const client = `--no-defaults --socket=${database.socket} --user=root`;
  const tar = `${through(old)} 'tar -cf - -C ${site} .' | ${through(next)} 'tar -xf - -C ${at('by-hand')}'`;
  const dump = `${through(old)} 'mariadb-dump ${client} old_club' | sed 's#club.saltmarsh.example/site#saltmarshrowing.example#g' | ${through(next)} 'mariadb ${client} by_hand'`;
  const byHand =
    old.ftp && next.ftp
      ? (await byFtp(old.ftp, next.ftp, site, at('by-hand'))) + (await timed(`set -o pipefail; ${dump}`))
      : await timed(`set -o pipefail; ${tar} && ${dump}`);

  const sql = old.ftp ? await relayed(database.port) : database.port;
  const place = (end: typeof old, path: string) =>
    end.ftp
      ? `ftp://porter@127.0.0.1:${end.ftp.port}${path}`
      : `sftp://${end.own.user}@127.0.0.1:${end.ownPort ?? end.port}${path}`;
  const login = (end: typeof old) =>
    end.ftp
      ? `{ password: ${JSON.stringify(end.ftp.password)} }`
      : `{ key: ${end.own.key}, host-key: "${end.own.fingerprint}" }`;
  const newMove = (name: string) => {
    const move = at(name);
    mkdirSync(move);
    mkdirSync(at('new', name), { recursive: true });
    database.sql('DROP DATABASE IF EXISTS new_club; CREATE DATABASE new_club CHARACTER SET utf8mb4;');
    const server = (user: string, which: string, password: string) =>
      `{ server: "mysql://${user}@127.0.0.1:${sql}/${which}", password: "${password}"${line.protocol === 'shell' ? ', through: files' : ''} }`;
    writeFileSync(join(move, '.env'), `OLD=\`${passwords.old}\`\nNEW=\`${passwords.new}\`\n`, {
      mode: 0o600,
    });
    writeFileSync(
      join(move, 'move.yaml'),
      `name: club
old: { address: ${oldAddress}, files: "${place(old, site)}", login: ${login(old)}, database: ${line.protocol === 'shell' ? '{ from: configuration }' : server('old', 'old_club', '${OLD}')} }
new: { address: ${newAddress}, files: "${place(next, at('new', name, 'htdocs'))}", login: ${login(next)}, database: ${server('new', 'new_club', '${NEW}')} }
`,
    );
    return move;
  };
  const run = (step: string, move: string) => timed(`exec node ${program} ${step} --yes --quiet`, move);
  const move = newMove('whole');
  const go = await run('go', move);
  const first = stepsOf(move);
  for (let i = 0; i < 20; i++) writeFileSync(join(site, `wp-content/changed-${i}.txt`), `${line.text} ${i}`);
  database.sql(
    `UPDATE old_club.sr4_options SET option_value = CONCAT(option_value, ' ') WHERE option_name LIKE 'widget%' LIMIT 20`,
  );
  const second = await run('go', move);
  const alone = newMove('alone');
  const each: string[] = [];
  for (const step of steps) each.push(`${step} ${(await run(step, alone)).toFixed(1)}`);
  process.stdout.write(`\n${line.delay} ms each way${line.rate < Number.POSITIVE_INFINITY ? `, ${line.rate / 1e6} MB/s` : ''}, ${line.protocol}
  by hand               ${byHand.toFixed(1)} s
  able-porter go        ${go.toFixed(1)} s, ${(go / byHand).toFixed(1)} × (${first})
  a second pass (go)    ${second.toFixed(1)} s (${stepsOf(move)})
  each step alone       ${each.join(', ')}
`);
}

try {
  const database = await OwnDatabase.start();
  ending.push(() => database.close());
  makeDatabases(database);
  if (!cmsFolder) throw new Error('the CMS is not installed');
  installCms(database, join(root, 'old/site'), oldAddress);
  const lines = process.argv.slice(2);
  for (const line of lines.length > 0 ? lines : ['0', '20', '80', '0@2', '20:sftp', '20:ftp'])
    await moved(database, lineOf(line));
} finally {
  for (const work of ending.reverse()) await work();
  rmSync(root, { recursive: true, force: true });
}

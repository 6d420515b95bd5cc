// A whole move (`go`) of a real CMS between two hosts with a shell, each behind a line of its own, beside the same by pipes
// typed by hand in the same run, and a second pass after twenty changed files. Needs sshd, ssh, tar, MariaDB, PHP and the
// CMS. Usage: npm run bench:move -- [DELAY...] (milliseconds each way; 0 20 80 where none is given)
import { spawn } from 'node:child_process';
import { mkdirSync, mkdtempSync, readFileSync, rmSync, writeFileSync } from 'node:fs';
import { tmpdir } from 'node:os';
import { join } from 'node:path';
import { Relay } from '../test/help/relay.js';
import { cmsFolder, installCms, makeDatabases, passwords } from '../test/real/cms.js';
import { OwnDatabase } from '../test/real/database.js';
import { ownSsh } from '../test/real/ssh.js';

const program = new URL('../dist/cli/main.js', import.meta.url).pathname;
const root = mkdtempSync(join(tmpdir(), 'able-porter-bench-'));
const ending: (() => unknown)[] = [];
const t = { after: (work: () => unknown) => ending.push(work) } as never;
const [oldAddress, newAddress] = ['https://club.saltmarsh.example/site', 'https://saltmarshrowing.example'];

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
    if (event === 'done') done.set(step, seconds);
  }
  return [...done].map(([step, seconds]) => `${step} ${seconds.toFixed(1)}`).join(', ');
}

async function moved(database: OwnDatabase, delay: number): Promise<void> {
  const at = (...parts: string[]) => join(root, `${delay}`, ...parts);
  const ends = [];
  for (const end of ['old', 'new']) {
    const ssh = await ownSsh(t, at(end, 'ssh'), false);
    const relay = new Relay(ssh.port, delay);
    ends.push({ ssh, relay, port: await relay.listen() });
    ending.push(() => relay.close());
  }
  const [old, next] = ends as [(typeof ends)[0], (typeof ends)[0]];
  const own = (end: typeof old) =>
    `ssh -i ${end.ssh.key} -p ${end.port} -o StrictHostKeyChecking=no -o UserKnownHostsFile=/dev/null -q ${end.ssh.user}@127.0.0.1`;
  mkdirSync(at('by-hand'));
  database.sql('DROP DATABASE IF EXISTS by_hand; CREATE DATABASE by_hand;');
  const client = `--no-defaults --socket=${database.socket} --user=root`;
  const tar = `${own(old)} 'tar -cf - -C ${join(root, 'old/site')} .' | ${own(next)} 'tar -xf - -C ${at('by-hand')}'`;
  const dump = `${own(old)} 'mariadb-dump ${client} old_club' | sed 's#club.saltmarsh.example/site#saltmarshrowing.example#g' | ${own(next)} 'mariadb ${client} by_hand'`;
  const pipes = await timed(`set -o pipefail; ${tar} && ${dump}`);

  database.sql('DROP DATABASE new_club; CREATE DATABASE new_club CHARACTER SET utf8mb4;');
  const move = at('move');
  mkdirSync(move);
  mkdirSync(at('new/www'), { recursive: true });
  const place = (end: typeof old, path: string) => `sftp://${end.ssh.user}@127.0.0.1:${end.port}${path}`;
  const login = (end: typeof old) => `{ key: ${end.ssh.key}, host-key: "${end.ssh.fingerprint}" }`;
  writeFileSync(join(move, '.env'), `NEW=\`${passwords.new}\`\n`, { mode: 0o600 });
  writeFileSync(
    join(move, 'move.yaml'),
    `name: club
old: { address: ${oldAddress}, files: "${place(old, join(root, 'old/site'))}", login: ${login(old)}, database: { from: configuration } }
new:
  address: ${newAddress}
  files: "${place(next, at('new/www/htdocs'))}"
  login: ${login(next)}
  database: { server: "mysql://new@127.0.0.1:${database.port}/new_club", password: "\${NEW}", through: files }
`,
  );
  const go = await timed(`exec node ${program} go --yes --quiet`, move);
  const first = stepsOf(move);
  for (let i = 0; i < 20; i++)
    writeFileSync(join(root, 'old/site', `wp-content/changed-${i}.txt`), `${delay} ${i}`);
  const step = (name: string) => `node ${program} ${name} --yes --quiet`;
  const second = await timed(`${step('pack')} && ${step('rewrite')} && ${step('deliver')}`, move);
  process.stdout.write(`\n${delay} ms each way
  pipes typed by hand   ${pipes.toFixed(1)} s
  able-porter go        ${go.toFixed(1)} s, ${(go / pipes).toFixed(1)} × (${first})
  a second pass         ${second.toFixed(1)} s (${stepsOf(move)})
`);
}

try {
  const database = await OwnDatabase.start();
  ending.push(() => database.close());
  makeDatabases(database);
  if (!cmsFolder) throw new Error('the CMS is not installed');
  installCms(database, join(root, 'old/site'), oldAddress);
  const delays = process.argv.slice(2).map(Number);
  for (const delay of delays.length > 0 ? delays : [0, 20, 80]) await moved(database, delay);
} finally {
  for (const work of ending.reverse()) await work();
  rmSync(root, { recursive: true, force: true });
}

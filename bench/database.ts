// Takes 500 MB of rows from a MariaDB server and loads them into another of its databases, beside the server's own dump
// program and client in the same run. Needs mariadbd, mariadb and mariadb-dump. With `hatch`, through hatches (nginx,
// PHP-FPM and proftpd) beside the straight connection, over lines of 20 ms each way. Usage: npm run bench:database -- [MB]
// [take | load | hatch]
import { execFileSync, spawn } from 'node:child_process';
import { mkdirSync, mkdtempSync, readFileSync, rmSync, writeFileSync } from 'node:fs';
import { tmpdir } from 'node:os';
import { join } from 'node:path';
import { Relay } from '../test/help/relay.js';
import { OwnDatabase } from '../test/real/database.js';
import { ownFtp } from '../test/real/ftp.js';
import { startHost } from '../test/real/hatch-hosts.js';
import { FtpRelay } from './ftp-relay.js';

const program = new URL('../dist/cli/main.js', import.meta.url).pathname;
const megabytes = Number(process.argv[2] ?? 500);
const root = mkdtempSync(join(tmpdir(), 'able-porter-bench-'));
const ending: (() => unknown)[] = [];
const t = { after: (work: () => unknown) => ending.push(work) } as never;

/** Posts of some kilobytes and short serialized settings, of words in no order; they pack to about a third. */
async function fill(): Promise<void> {
  let seed = 4;
  const random = (below: number) => {
    seed = (seed * 1_103_515_245 + 12_345) % 2 ** 31;
    return Math.floor((seed / 2 ** 31) * below);
  };
  const words = Array.from(
    { length: 3000 },
    () => random(2 ** 30).toString(36) + random(36 ** 3).toString(36),
  );
  const text = (bytes: number) => {
    let made = '';
    while (made.length < bytes) {
      const kind = random(60);
      made += `${words[random(words.length)]} `;
      if (kind === 0) made += "it\\'s low water\\n";
      if (kind === 1)
        made += `<a href=\\"https://club.saltmarsh.example/site/${words[random(words.length)]}/\\">é</a> `;
    }
    return made;
  };
  const long = Array.from({ length: 500 }, () => text([300, 1500, 4000, 8000][random(4)]!));
  const short = Array.from({ length: 3000 }, () => text([5, 20, 60, 200][random(4)]!));
  const client = spawn('mariadb', [...own.split(' '), '--max-allowed-packet=64M', 'old'], {
    stdio: ['pipe', 'inherit', 'inherit'],
  });
  const put = async (sql: string) => {
    if (!client.stdin.write(`${sql};\n`)) await new Promise(room => client.stdin.once('drain', room));
  };
  await put(
    'CREATE TABLE posts (ID bigint unsigned AUTO_INCREMENT PRIMARY KEY, d datetime, t text, c longtext, s varchar(20), n int, f double, KEY s (s))',
  );
  await put(
    'CREATE TABLE meta (mid bigint unsigned AUTO_INCREMENT PRIMARY KEY, pid bigint, k varchar(255), v longtext, KEY pid (pid), KEY k (k(191)))',
  );
  for (let bytes = 0; bytes < megabytes * 6e5; ) {
    const rows = Array.from({ length: 60 }, (_, i) => {
      const content = long[random(long.length)]!;
      bytes += content.length + 80;
      return `('2026-01-02 03:04:05','${short[random(short.length)]}','${content}','publish',${i},${random(1e6) / 7})`;
    });
    await put(`INSERT INTO posts (d, t, c, s, n, f) VALUES ${rows.join()}`);
  }
  for (let bytes = 0; bytes < megabytes * 4e5; ) {
    const rows = Array.from({ length: 1500 }, (_, i) => {
      const value = short[random(short.length)]!;
      bytes += value.length + 60;
      return `(${i},'_key_${i % 53}','a:1:{s:4:"text";s:9:"${words[i]!.slice(0, 9)}";}${value}')`;
    });
    await put(`INSERT INTO meta (pid, k, v) VALUES ${rows.join()}`);
  }
  client.stdin.end();
  await new Promise(resolve => client.once('exit', resolve));
}

interface Taken {
  readonly seconds: number;
  /** The most memory of the process, in MB. */
  readonly memory: number;
}

async function timed(
  command: string,
  onLine: (line: string, seconds: number) => void = () => {},
): Promise<Taken> {
  const began = performance.now();
  const child = spawn('bash', ['-c', `exec ${command}`], { cwd: root, stdio: ['ignore', 'pipe', 'inherit'] });
  let memory = 0;
  const watching = setInterval(() => {
    try {
      const status = readFileSync(`/proc/${child.pid}/status`, 'utf8');
      memory = Math.max(memory, Number(/VmHWM:\s+(\d+)/.exec(status)?.[1] ?? 0) / 1000);
    } catch {
      // It has just ended.
    }
  }, 50);
  let rest = '';
  child.stdout.on('data', chunk => {
    const lines = (rest + chunk).split('\n');
    rest = lines.pop()!;
    for (const line of lines) onLine(line, (performance.now() - began) / 1000);
  });
  const code = await new Promise(resolve => child.once('exit', resolve));
  clearInterval(watching);
  if (code !== 0) throw new Error(`${command} ended with ${code}`);
  return { seconds: (performance.now() - began) / 1000, memory };
}

/** The one in the middle by its time, with the most memory that any of them had. */
function median(list: readonly Taken[]): Taken {
  const { seconds } = [...list].sort((a, b) => a.seconds - b.seconds)[Math.floor(list.length / 2)]!;
  return { seconds, memory: Math.max(...list.map(({ memory }) => memory)) };
}

const show = ({ seconds, memory }: Taken) => `${seconds.toFixed(1)} s, ${memory.toFixed(0)} MB`;

const database = await OwnDatabase.start();
const own = `--no-defaults -h 127.0.0.1 -P ${database.port} -uroot`;
try {
  database.sql('CREATE DATABASE old CHARACTER SET utf8mb4; CREATE DATABASE ours; CREATE DATABASE theirs');
  await fill();
  // A server that has run for a while knows how long its tables are.
  database.sql('ANALYZE TABLE posts, meta', 'old');
  const url = (name: string) => `mysql://root@127.0.0.1:${database.port}/${name}`;
  writeFileSync(
    join(root, 'move.yaml'),
    `name: big
old: { address: "https://club.saltmarsh.example/site", database: { server: "${url('old')}" } }
new: { address: "https://saltmarshrowing.example", database: { server: "${url('ours')}", password: "" } }
`,
  );
  if (process.argv[3] === 'hatch') {
    await throughHatch();
    process.exit(0);
  }
  mkdirSync(join(root, 'theirs'));
  const dump = `mariadb-dump ${own} --single-transaction old`;
  await timed(`${dump} > theirs/dump.sql`);
  const rounds: { plain: Taken; packed: Taken; take: Taken }[] = [];
  for (let round = 0; round < (process.argv[3] === 'load' ? 1 : 3); round++) {
    rounds.push({
      plain: await timed(`${dump} > theirs/dump.sql`),
      take: await timed(`node ${program} pack --quiet`),
      packed: await timed(`bash -c '${dump} | gzip -1 > theirs/dump.sql.gz'`),
    });
  }
  const [plain, packed, take] = (['plain', 'packed', 'take'] as const).map(name =>
    median(rounds.map(round => round[name])),
  ) as [Taken, Taken, Taken];
  const size = execFileSync('wc', ['-c', join(root, 'theirs/dump.sql')])
    .toString()
    .split(' ')[0];
  console.log(`a dump of ${(Number(size) / 1e6).toFixed(0)} MB`);
  console.log(
    `take      its own dump program ${show(plain)}; the same through gzip -1 ${show(packed)}; ours ${show(take)}`,
  );
  console.log(
    `          ${(take.seconds / plain.seconds).toFixed(2)} × and ${(take.seconds / packed.seconds).toFixed(2)} ×`,
  );
  if (process.argv[3] !== 'take') await load();
} finally {
  await database.close();
  rmSync(root, { recursive: true, force: true });
}

/** Takes and loads over lines of 20 ms each way: straight, and through hatches. */
async function throughHatch(): Promise<void> {
  const delay = 20;
  const line = new Relay(database.port, delay);
  const straight = `mysql://root@127.0.0.1:${await line.listen()}`;
  const there = `mysql://root@127.0.0.1:${database.port}`;
  const ftp = await ownFtp(t, root, 'none', { clients: 8 });
  const relay = new FtpRelay(ftp.port, delay);
  const port = await relay.listen();
  const end = async (name: 'old' | 'new') => {
    mkdirSync(join(root, name));
    const web = new Relay(await startHost(t, 'nginx-fpm', join(root, name)), delay);
    ending.push(() => web.close());
    return `reach: "http://127.0.0.1:${await web.listen()}", files: "ftp://porter@127.0.0.1:${port}${join(root, name)}", login: { password: ${JSON.stringify(ftp.password)} }, hatch: true`;
  };
  const sheets = {
    straight: [
      `database: { server: "${straight}/old" }`,
      `database: { server: "${straight}/ours", password: "" }`,
    ],
    hatch: [
      `${await end('old')}, database: { server: "${there}/old", through: files }`,
      `${await end('new')}, database: { server: "${there}/theirs", password: "", through: files }`,
    ],
  };
  const seconds: Record<string, Record<string, number>> = {};
  for (const [name, [old, next]] of Object.entries(sheets)) {
    const at = join(root, `move-${name}`);
    mkdirSync(at);
    writeFileSync(
      join(at, 'move.yaml'),
      `name: big\nold: { address: "http://club.saltmarsh.example", ${old} }\nnew: { address: "http://saltmarshrowing.example", ${next} }\ntake: { files: false }\n`,
    );
    seconds[name] = {};
    for (const step of ['pack', 'rewrite', 'deliver'])
      seconds[name][step] = (
        await timed(`bash -c 'cd ${at} && node ${program} ${step} --yes --quiet'`)
      ).seconds;
  }
  for (const step of ['pack', 'deliver']) {
    const [plain, hatch] = [seconds.straight![step]!, seconds.hatch![step]!];
    console.log(
      `${step.padEnd(8)} straight ${plain.toFixed(1)} s, through a hatch ${hatch.toFixed(1)} s: ${(hatch / plain).toFixed(2)} ×`,
    );
  }
  for (const one of [line, relay]) await one.close();
  for (const work of ending.reverse()) await work();
  await database.close();
  rmSync(root, { recursive: true, force: true });
}

/** Somebody writes at the old site: 50 rows of each table. */
async function changeRows(): Promise<void> {
  for (const [table, key, column] of [
    ['posts', 'ID', 't'],
    ['meta', 'mid', 'v'],
  ]) {
    const step = Number(database.sql(`SELECT FLOOR(MAX(${key}) / 50) FROM ${table}`, 'old'));
    database.sql(
      `UPDATE ${table} SET ${column} = CONCAT(${column}, '!') WHERE ${key} MOD ${step} = 0 LIMIT 50`,
      'old',
    );
  }
}

/** Loads what was taken, beside the client; then again, with few rows changed. */
async function load(): Promise<void> {
  const rewrite = await timed(`node ${program} rewrite --quiet`);
  const theirs = await timed(`mariadb ${own} theirs < theirs/dump.sql`);
  let [began, loaded] = [0, 0];
  const deliver = await timed(`node ${program} deliver --yes --json-events`, (line, seconds) => {
    if (line.includes('"loading the database"')) began ||= seconds;
    if (line.includes('"reading the dump again"')) loaded ||= seconds;
  });
  const loading = loaded - began;
  console.log(`rewrite   ${show(rewrite)}`);
  console.log(
    `load      its own client ${show(theirs)}; ours ${loading.toFixed(1)} s, ${(loading / theirs.seconds).toFixed(2)} ×`,
  );
  console.log(`          with reading all back and comparing ${show(deliver)}`);
  await changeRows();
  const pack = await timed(`node ${program} pack --quiet --again`);
  const rewriteAgain = await timed(`node ${program} rewrite --quiet`);
  const again = await timed(`node ${program} deliver --yes --quiet`);
  console.log(
    `again     100 rows changed: pack ${show(pack)}; rewrite ${show(rewriteAgain)}; deliver ${show(again)}, ${(again.seconds / deliver.seconds).toFixed(2)} × the first`,
  );
}

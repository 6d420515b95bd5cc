import assert from 'node:assert/strict';
import { mkdirSync, writeFileSync } from 'node:fs';
import { join } from 'node:path';
import { type TestContext, test } from 'node:test';
import { folder, run } from '../help/program.js';
import { needs } from '../help/real.js';
import { Relay } from '../help/relay.js';
import { databaseForTests } from './database.js';
import { ownFtp } from './ftp.js';
import { hostPrograms, startHost } from './hatch-hosts.js';
import { ownSsh } from './ssh.js';

const started = databaseForTests();
let counter = 0;

/**
 * Milliseconds each way: long against what the programs themselves do between two answers. A machine that is busy with
 * other things needs a longer one, or what goes together seems to wait for each other.
 */
const delays = [25, 60, 120];
/** What the site has: so many folders of two files each, and so many tables besides those of its family. */
interface Size {
  readonly folders: number;
  readonly tables: number;
}
const small: Size = { folders: 8, tables: 4 };
const large: Size = { folders: 80, tables: 44 };
const steps = ['survey', 'pack', 'rewrite', 'deliver', 'check'] as const;
type Protocol = 'shell' | 'sftp' | 'ftp' | 'hatch';
type Trips = Record<(typeof steps)[number] | 'go', number>;

function writeSite(at: string, { folders }: Size, database: string): void {
  for (const name of ['wp-includes', 'wp-admin', 'wp-content'])
    mkdirSync(join(at, name), { recursive: true });
  writeFileSync(join(at, 'wp-includes/version.php'), "<?php $wp_version = '6.1';\n");
  writeFileSync(join(at, 'wp-load.php'), '<?php\n');
  writeFileSync(join(at, 'index.php'), '<?php\n');
  writeFileSync(join(at, 'wp-config.php'), database);
  for (let i = 0; i < folders; i++) {
    const below = join(at, 'wp-content', `level-${i % 4}`, `folder-${i}`);
    mkdirSync(below, { recursive: true });
    for (const n of [1, 2]) writeFileSync(join(below, `oar-${n}.css`), `/* ${i} ${n} */\n`);
  }
}

/** Counts the round trips of each step of a move of a site, and of `go`, over a line with a delay. */
async function tripsOf(t: TestContext, size: Size, protocol: Protocol, delay: number): Promise<Trips> {
  const database = started();
  const root = folder(t);
  const name = `trips_${protocol}_${counter++}`;
  const tables = Array.from(
    { length: size.tables },
    (_, i) =>
      `CREATE TABLE wp_more${i} (id INT PRIMARY KEY, v TEXT); INSERT INTO wp_more${i} VALUES (1, 'tide');`,
  );
  database.sql(
    `CREATE DATABASE ${name}_old; USE ${name}_old; CREATE TABLE wp_options (option_id int PRIMARY KEY, option_name varchar(50), option_value text); INSERT INTO wp_options VALUES (1, 'home', 'https://old.example'); CREATE TABLE wp_posts (ID int PRIMARY KEY, t text); CREATE TABLE wp_users (ID int PRIMARY KEY); ${tables.join(' ')}
     CREATE DATABASE ${name}_a; CREATE DATABASE ${name}_b; CREATE OR REPLACE USER trips IDENTIFIED BY 'ebb'; GRANT ALL ON *.* TO trips`,
  );
  const relayed = async (port: number) => {
    const relay = new Relay(port, delay);
    t.after(() => relay.close());
    return { relay, port: await relay.listen() };
  };
  const ssh =
    protocol === 'ftp' || protocol === 'hatch' ? undefined : await ownSsh(t, root, protocol === 'sftp');
  const ftp = ssh ? undefined : await ownFtp(t, root, 'none', { clients: 20 });
  const line = await relayed(ssh?.port ?? ftp!.port);
  // Without a shell the server of the database is asked straight, over a line of its own.
  const sql = await relayed(database.port);
  const through = protocol === 'shell' || protocol === 'hatch';
  writeSite(
    join(root, 'old'),
    size,
    `<?php define('DB_NAME', '${name}_old'); define('DB_USER', 'trips'); define('DB_PASSWORD', 'ebb'); define('DB_HOST', '127.0.0.1:${through ? database.port : sql.port}'); $table_prefix = 'wp_';\n`,
  );
  const place = (path: string) =>
    ssh
      ? `sftp://${ssh.user}@127.0.0.1:${line.port}${join(root, path)}`
      : `ftp://porter@127.0.0.1:${line.port}${join(root, path)}`;
  const login = ssh
    ? `login: { key: ${ssh.key}, host-key: "${ssh.fingerprint}" }`
    : `login: { password: ${JSON.stringify(ftp!.password)} }`;
  const lines = [line.relay, sql.relay];
  /** What an end has besides: where its web server is, with PHP, that runs a hatch. */
  const hatchAt = async (path: string) => {
    if (protocol !== 'hatch') return '';
    mkdirSync(join(root, path), { recursive: true });
    const web = await relayed(await startHost(t, 'nginx-fpm', join(root, path)));
    lines.push(web.relay);
    return `, reach: "http://127.0.0.1:${web.port}", hatch: true`;
  };
  const atOld = await hatchAt('old');
  const move = async (as: 'a' | 'b') => {
    const at = join(root, `move-${as}`);
    mkdirSync(at);
    mkdirSync(join(root, `host-${as}`));
    const atNew = await hatchAt(`host-${as}/site`);
    const server = `mysql://trips@127.0.0.1:${through ? database.port : sql.port}/${name}_${as}`;
    writeFileSync(
      join(at, 'move.yaml'),
      `name: trips
old: { address: https://old.example, files: "${place('old')}", ${login}${atOld}, database: { server: "mysql://trips@127.0.0.1:${through ? database.port : sql.port}/${name}_old", password: ebb${through ? ', through: files' : ''} } }
new: { address: https://new.example, files: "${place(`host-${as}/site`)}", ${login}${atNew}, database: { server: "${server}", password: ebb${through ? ', through: files' : ''} } }
`,
    );
    return at;
  };
  const counted = async (step: string, cwd: string) => {
    const all = () => lines.reduce((sum, { roundTrips }) => sum + roundTrips, 0);
    const before = all();
    const ran = await run([step, '--yes', '--quiet'], { cwd, env: { HOME: root } });
    assert.ok(ran.code === 0 || (step === 'survey' && ran.code === 1), `${step}: ${ran.stderr}${ran.stdout}`);
    return all() - before;
  };
  const alone = await move('a');
  const trips: Partial<Trips> = {};
  for (const step of steps) trips[step] = await counted(step, alone);
  trips.go = await counted('go', await move('b'));
  return trips as Trips;
}

/**
 * The formulas of docs/performance.md, with a third of room: how many round trips a small site takes at most, and how many
 * more one takes that has 72 more folders, 144 more files and 40 more tables. A loop that waits for each of these takes more.
 */
const formulas: Record<Protocol, Record<keyof Trips, { few: number; more: number }>> = {
  shell: {
    survey: { few: 60, more: 20 },
    pack: { few: 30, more: 15 },
    rewrite: { few: 0, more: 0 },
    deliver: { few: 80, more: 20 },
    check: { few: 32, more: 15 },
    go: { few: 170, more: 60 },
  },
  sftp: {
    survey: { few: 70, more: 25 },
    pack: { few: 40, more: 35 },
    rewrite: { few: 0, more: 0 },
    deliver: { few: 125, more: 50 },
    check: { few: 45, more: 35 },
    go: { few: 300, more: 140 },
  },
  ftp: {
    survey: { few: 80, more: 130 },
    pack: { few: 46, more: 200 },
    rewrite: { few: 0, more: 0 },
    deliver: { few: 180, more: 300 },
    check: { few: 76, more: 180 },
    go: { few: 350, more: 800 },
  },
  hatch: {
    survey: { few: 115, more: 15 },
    pack: { few: 55, more: 15 },
    rewrite: { few: 0, more: 0 },
    deliver: { few: 115, more: 20 },
    check: { few: 76, more: 15 },
    go: { few: 220, more: 40 },
  },
};

for (const protocol of ['shell', 'sftp', 'ftp', 'hatch'] as const)
  test(`a move by ${protocol} takes as many round trips as is written down, and does not wait for each folder, file or table`, {
    timeout: 1_200_000,
  }, async t => {
    if (!needs(t, 'sshd', 'ssh-keygen', 'mariadbd', 'mariadb', ...hostPrograms)) return;
    let tooMany: string[] = [];
    for (const delay of delays) {
      const smaller = await tripsOf(t, small, protocol, delay);
      const larger = await tripsOf(t, large, protocol, delay);
      t.diagnostic(JSON.stringify({ delay, smaller, larger }));
      tooMany = [...steps, 'go' as const].flatMap(step => {
        const { few, more } = formulas[protocol][step];
        const added = larger[step] - smaller[step];
        return [
          ...(smaller[step] > few ? [`${step}: ${smaller[step]} round trips, where ${few} are enough`] : []),
          ...(added > more ? [`${step}: ${added} round trips more, where ${more} are enough`] : []),
        ];
      });
      if (tooMany.length === 0) return;
    }
    assert.fail(tooMany.join('; '));
  });

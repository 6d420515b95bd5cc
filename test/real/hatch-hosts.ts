import assert from 'node:assert/strict';
import { chmodSync, mkdirSync, readdirSync, writeFileSync } from 'node:fs';
import { userInfo } from 'node:os';
import { dirname, join } from 'node:path';
import type { TestContext } from 'node:test';
import { parseAddress } from '../../src/core/address/address.js';
import { LocalFiles } from '../../src/ends/files/local.js';
import { type HatchPlace, isOfHatch } from '../../src/ends/hatch/place.js';
import { WebSite } from '../../src/ends/http/web-site.js';
import { folder, run } from '../help/program.js';
import { installCms, makeDatabases, passwords } from './cms.js';
import { freePort, type OwnDatabase } from './database.js';
import { ownFtp } from './ftp.js';
import { start, startApache } from './web-servers.js';

/** How a cheap host runs PHP. */
export const hosts = ['apache-fpm', 'apache-module', 'nginx-fpm'] as const;
/** At the last one, PHP reaches databases with PDO alone. */
export type HostKind = (typeof hosts)[number] | 'nginx-pdo';

/** What each of them asks of the machine. */
export const hostPrograms = ['apache2', 'nginx', 'php-fpm8.2', 'proftpd', 'openssl'];

const limits = {
  memory_limit: '64M',
  max_execution_time: '10',
  post_max_size: '2M',
  upload_max_filesize: '2M',
  disable_functions: 'exec,passthru,shell_exec,system,proc_open,popen',
  output_buffering: '4096',
  'zlib.output_compression': 'On',
  display_errors: 'On',
};

/** Settings that the site itself cannot change. */
const admin = (set: (name: string, value: string) => string, more: readonly string[] = []) =>
  Object.entries({ ...limits, disable_functions: [limits.disable_functions, ...more].join() })
    .map(([name, value]) => set(name, value))
    .join('\n');

/**
 * Starts a web server with PHP and tight limits on a folder, and ends it after the test.
 * @param children PHP programs that run at once
 * @returns its port
 */
export async function startHost(t: TestContext, kind: HostKind, htdocs: string): Promise<number> {
  chmodSync(htdocs, 0o755);
  if (kind === 'apache-module') {
    const values = admin((name, value) => `php_admin_value ${name} ${JSON.stringify(value)}`);
    const { port, stop } = await startApache(t, htdocs, {
      modules: ['dir', 'php'],
      prefork: true,
      configuration: `DirectoryIndex index.php index.html\nLimitRequestBody 2097152\n<FilesMatch \\.php$>\nSetHandler application/x-httpd-php\n</FilesMatch>\n${values}\n`,
    });
    t.after(stop);
    return port;
  }
  const fpm = await startFpm(t, kind === 'nginx-pdo' ? ['mysqli_init'] : []);
  if (kind === 'apache-fpm') {
    const { port, stop } = await startApache(t, htdocs, {
      modules: ['dir', 'proxy', 'proxy_fcgi', 'deflate', 'filter', 'mime'],
      configuration: `DirectoryIndex index.php index.html\nLimitRequestBody 2097152\nTypesConfig /etc/mime.types\nSetOutputFilter DEFLATE\n<FilesMatch \\.php$>\nSetHandler "proxy:fcgi://127.0.0.1:${fpm}"\n</FilesMatch>\n`,
    });
    t.after(stop);
    return port;
  }
  const root = folder(t);
  chmodSync(root, 0o755);
  const port = await freePort();
  writeFileSync(
    join(root, 'nginx.conf'),
    `daemon off; pid ${root}/pid; error_log ${root}/error.log; worker_processes 1; ${userInfo().uid === 0 ? 'user root;' : ''}
events {}
http { access_log off; include /etc/nginx/mime.types; client_max_body_size 2m; client_body_temp_path ${root}/t; proxy_temp_path ${root}/t; fastcgi_temp_path ${root}/t; uwsgi_temp_path ${root}/t; scgi_temp_path ${root}/t;
server { listen 127.0.0.1:${port}; root ${htdocs}; index index.php index.html;
location ~ /\\.(?!well-known) { deny all; }
location ~ \\.php$ { try_files $uri =404; include /etc/nginx/fastcgi_params; fastcgi_param SCRIPT_FILENAME $document_root$fastcgi_script_name; fastcgi_pass 127.0.0.1:${fpm}; } } }`,
  );
  const { stop } = await start('nginx', ['-p', root, '-c', join(root, 'nginx.conf')], port);
  t.after(stop);
  return port;
}

/** PHP-FPM as the account that owns the site, as such hosts run it. */
async function startFpm(t: TestContext, without: readonly string[]): Promise<number> {
  const root = folder(t);
  mkdirSync(join(root, 'sessions'));
  const port = await freePort();
  const { uid, username } = userInfo();
  const values = admin((name, value) => `php_admin_value[${name}] = ${value}`, without);
  writeFileSync(
    join(root, 'fpm.conf'),
    `[global]\npid = ${root}/pid\nerror_log = ${root}/error.log\ndaemonize = no\n[site]\n${uid === 0 ? `user = ${username}\ngroup = ${username}\n` : ''}listen = 127.0.0.1:${port}\npm = static\npm.max_children = 4\nrequest_terminate_timeout = 10s\n${values}\n`,
  );
  const { stop } = await start(
    'php-fpm8.2',
    ['-F', ...(uid === 0 ? ['-R'] : []), '-y', join(root, 'fpm.conf')],
    port,
  );
  t.after(stop);
  return port;
}

/** A web root of this machine as a place for a hatch. */
export function placeAt(t: TestContext, htdocs: string, port: number, isPlain = false): HatchPlace {
  const site = new WebSite(parseAddress('http://club.example'), parseAddress(`http://127.0.0.1:${port}`));
  t.after(() => site.close());
  return {
    end: 'new',
    site,
    folder: new LocalFiles(htdocs),
    above: new LocalFiles(dirname(htdocs)),
    isPlain,
    note: async () => {},
    left: async () => [],
  };
}

/** Both ends of a move at hosts that have FTP and PHP and nothing else. */
export async function cheapHosts(t: TestContext, database: OwnDatabase, host: HostKind) {
  const root = folder(t);
  chmodSync(root, 0o755);
  for (const name of ['old', 'new', 'move']) mkdirSync(join(root, name));
  database.sql(
    'DROP DATABASE IF EXISTS old_club; DROP DATABASE IF EXISTS new_club; DROP USER IF EXISTS old@localhost; DROP USER IF EXISTS new@localhost',
  );
  makeDatabases(database);
  installCms(database, join(root, 'old'), 'http://old.example');
  const ftp = await ownFtp(t, root, 'explicit', { clients: 8 });
  const ports = {
    old: await startHost(t, host, join(root, 'old')),
    new: await startHost(t, host, join(root, 'new')),
  };
  const end = (name: 'old' | 'new') =>
    `address: "http://${name}.example", reach: "http://127.0.0.1:${ports[name]}", files: "ftps://porter@127.0.0.1:${ftp.port}${join(root, name)}", login: { password: ${JSON.stringify(ftp.password)}, host-key: "${ftp.fingerprint}" }, hatch: true`;
  const cwd = join(root, 'move');
  writeFileSync(
    join(cwd, 'move.yaml'),
    `name: hatch
old: { ${end('old')}, database: { from: configuration } }
new: { ${end('new')}, database: { server: "mysql://new@127.0.0.1:${database.port}/new_club", password: ${JSON.stringify(passwords.new)}, through: files } }
`,
  );
  const step = async (args: readonly string[], code = 0) => {
    const ran = await run([...args, '--yes'], { cwd, env: { HOME: root } });
    assert.equal(ran.code, code, `${args.join(' ')}: ${ran.stdout}${ran.stderr}`);
    return ran.stdout;
  };
  /** What of hatches lies in the web roots and above. */
  const left = () =>
    [root, join(root, 'old'), join(root, 'new')].flatMap(at => readdirSync(at).filter(isOfHatch));
  return { database, root, cwd, step, left };
}

import { execFileSync, spawn } from 'node:child_process';
import { cpSync, mkdirSync, readFileSync, writeFileSync } from 'node:fs';
import { request } from 'node:http';
import { join } from 'node:path';
import type { TestContext } from 'node:test';
import { fileURLToPath } from 'node:url';
import { bytesOfText } from '../../src/core/bytes.js';
import { phpLiteral } from '../../src/core/site/configuration/source/php-strings.js';
import { listens, type OwnDatabase, until } from './database.js';

export const here = (name: string) => fileURLToPath(new URL(name, import.meta.url));
const cms = '/usr/share/wordpress';
/** Where the CMS is on this machine, and the programs that a move of it asks. */
export const cmsFolder = cms;
export const cmsPrograms = ['php', 'mariadbd', 'mariadb-install-db', 'mariadb', 'mariadb-dump'];

/** Passwords of the two databases' users, each with what shells, configurations and SQL take amiss. */
export const passwords = { old: `o'ld\\ "$pw`, new: `n e"w'\\ %@$1` };

const literal = (text: string) => `'${text.replace(/[\\']/g, '\\$&')}'`;

/** Makes the databases `old_club` and `new_club`, each with a user of its own. */
export function makeDatabases(database: OwnDatabase): void {
  database.sql(
    (['old', 'new'] as const)
      .map(
        end =>
          `CREATE DATABASE ${end}_club CHARACTER SET utf8mb4; CREATE USER '${end}'@'localhost' IDENTIFIED BY ${literal(passwords[end])}; GRANT ALL ON ${end}_club.* TO '${end}'@'localhost';`,
      )
      .join('\n'),
  );
}

/** Installs the CMS in a folder, on the database `old_club` or another of the same user, through its own functions. */
export function installCms(database: OwnDatabase, site: string, address: string, name = 'old_club'): void {
  cpSync(cms, site, { recursive: true, dereference: true });
  mkdirSync(join(site, 'wp-content/uploads'), { recursive: true });
  const sample = readFileSync(join(site, 'wp-config-sample.php'), 'utf8');
  writeFileSync(
    join(site, 'wp-config.php'),
    sample
      .replace("'database_name_here'", `'${name}'`)
      .replace("'username_here'", "'old'")
      .replace("'password_here'", () => phpLiteral(bytesOfText(passwords.old)))
      .replace("'localhost'", `'127.0.0.1:${database.port}'`)
      .replace("'wp_'", "'sr4_'"),
  );
  const said = execFileSync('php', [here('seed.php'), site, address], {
    stdio: ['ignore', 'pipe', 'inherit'],
    env: { ...process.env, ...(name === 'born_club' ? { SITE_HTTPS: '1' } : {}) },
  });
  if (!said.toString().includes('seeded')) throw new Error(`the CMS was not installed: ${said}`);
}

/** Serves a folder by PHP's built-in server, as a host with TLS in front of it would, until the test ends. */
export async function serve(t: TestContext, root: string, base: string, port: number): Promise<void> {
  const server = spawn('php', ['-S', `127.0.0.1:${port}`, '-t', root, here('router.php')], {
    env: { ...process.env, SITE_HTTPS: '1', SITE_BASE: base },
    stdio: 'ignore',
  });
  t.after(() => server.kill('SIGKILL'));
  await until('the web server', () => listens(port));
}

/** Logs in to the CMS through its login page. @returns where it leads, or what the page says */
export async function logIn(port: number, host: string, user: string, password: string): Promise<string> {
  const form = new URLSearchParams({ log: user, pwd: password, 'wp-submit': 'Log In', testcookie: '1' });
  return new Promise((resolve, reject) => {
    const asking = request(
      {
        host: '127.0.0.1',
        port,
        path: '/wp-login.php',
        method: 'POST',
        headers: {
          host,
          cookie: 'wordpress_test_cookie=WP%20Cookie%20check',
          'content-type': 'application/x-www-form-urlencoded',
        },
      },
      answer => {
        let page = '';
        answer.on('data', chunk => {
          page += chunk;
        });
        answer.on('end', () =>
          resolve(
            answer.headers.location ?? /<div id="login_error">([\s\S]*?)<\/div>/.exec(page)?.[1] ?? page,
          ),
        );
      },
    );
    asking.on('error', reject);
    asking.end(form.toString());
  });
}

/** Rules of the CMS, as it writes them into its own folder. */
export const cmsRules = (base: string) => `RewriteEngine On
RewriteBase ${base}
RewriteRule ^index\\.php$ - [L]
RewriteCond %{REQUEST_FILENAME} !-f
RewriteCond %{REQUEST_FILENAME} !-d
RewriteRule . ${base}index.php [L]
`;

/** Apache with PHP as a module, behind what ends TLS. */
export const apachePhp = {
  modules: ['dir', 'php', 'setenvif'],
  prefork: true,
  configuration:
    'DirectoryIndex index.php\nSetEnvIf X-Forwarded-Proto https HTTPS=on\n<FilesMatch \\.php$>\nSetHandler application/x-httpd-php\n</FilesMatch>\n',
};

import assert from 'node:assert/strict';
import { chmodSync, mkdirSync, writeFileSync } from 'node:fs';
import { join } from 'node:path';
import { test } from 'node:test';
import { folder, run } from '../help/program.js';
import { needs } from '../help/real.js';
import { cmsPrograms, installCms, makeDatabases, passwords } from './cms.js';
import { databaseForTests } from './database.js';
import { ownFtp } from './ftp.js';
import { hostPrograms, hosts, startHost } from './hatch-hosts.js';

const started = databaseForTests();

for (const host of hosts)
  test(`the whole move of a real CMS through hatches at ${host}, with nothing else but FTP`, {
    timeout: 600_000,
  }, async t => {
    if (!needs(t, ...cmsPrograms, ...hostPrograms)) return;
    const database = started();
    const root = folder(t);
    chmodSync(root, 0o755);
    for (const name of ['old', 'new', 'move']) mkdirSync(join(root, name));
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
    for (const step of ['survey', 'pack', 'rewrite', 'deliver', 'check']) {
      const at = Date.now();
      const ran = await run([step, '--yes'], { cwd, env: { HOME: root } });
      t.diagnostic(`${host} ${step} ${ran.code} ${Date.now() - at} ms`);
      assert.ok(
        ran.code === 0 || step === 'survey' || step === 'check',
        `${step}: ${ran.stdout}${ran.stderr}`,
      );
    }
    database.sql(
      'DROP DATABASE old_club; DROP DATABASE new_club; DROP USER old@localhost; DROP USER new@localhost',
    );
  });

import assert from 'node:assert/strict';
import { execFile } from 'node:child_process';
import { existsSync, mkdirSync, readFileSync, rmSync, statSync, writeFileSync } from 'node:fs';
import { type AddressInfo, createServer } from 'node:net';
import { join } from 'node:path';
import { test } from 'node:test';
import { promisify } from 'node:util';
import { StandinDatabase } from '../../src/standins/database.js';
import { StandinDatabaseServer } from '../../src/standins/database-server.js';
import { StandinSftpServer } from '../../src/standins/hosting/sftp-server.js';
import { makeClub, oldPlace } from '../help/club.js';
import { folder, run } from '../help/program.js';
import { needs } from '../help/real.js';
import { converse } from '../help/terminal.js';

const password = "n'e $w`";

async function listening(t: { after(work: () => Promise<void>): void }): Promise<string> {
  const database = new StandinDatabase({ name: 'saltmarsh', user: 'saltmarsh', password });
  const server = new StandinDatabaseServer(database);
  const port = await server.listen();
  t.after(() => server.close());
  return `mysql://saltmarsh@127.0.0.1:${port}/saltmarsh`;
}

test('from flags: every answer is tested, what was found is said, and the sheet is right', async t => {
  const root = folder(t);
  await makeClub(root);
  const flags = [
    ...['--old', oldPlace.address, '--old-files', './old/site', '--old-dump', './old/club.sql.gz'],
    ...['--new', 'https://n.example', '--new-files', `${root}/n`, '--new-dump', 'n.sql'],
    ...['--new-server', await listening(t), '--new-password-variable', 'PW', '--search-engines', 'hide'],
  ];
  const started = await run(['start', ...flags], { cwd: root, env: { PW: password } });
  assert.equal(started.code, 0, started.stderr);
  for (const said of [
    /a wordpress 6\.4\.3 site, database club_old, table prefix "sr4_"/,
    /12 tables, 228 rows; it was served as http:\/\/tmp-4417\.oldhost\.example\/~club too/,
    /can be written, empty/,
    /opens: 10\.11\.6-MariaDB/,
  ])
    assert.match(started.stderr, said);
  const sheet = readFileSync(join(root, 'move.yaml'), 'utf8');
  assert.match(sheet, /password: "\$\{PW\}"/);
  assert.match(sheet, /search-engines: hide/);
  assert.ok(!(sheet + started.stdout + started.stderr).includes(password) && !existsSync(join(root, '.env')));
  const again = (...more: string[]) =>
    run(['start', ...flags, '--yes', ...more], { cwd: root, env: { PW: 'other' } });
  rmSync(join(root, 'move.yaml'));
  const wrong = await again();
  assert.match(wrong.stderr, /✗ credentials: Access denied/);
  assert.deepEqual([wrong.code, existsSync(join(root, 'move.yaml'))], [3, false]);
  assert.match(wrong.stdout, /No sheet was written: --new-password-variable fails its test/);
  assert.deepEqual([(await again('--despite-tests')).code, existsSync(join(root, 'move.yaml'))], [0, true]);
  const nonsense = await run(['start', ...flags, '--yes', '--new-prefix', 'a b'], { cwd: root });
  assert.equal(nonsense.code, 2);
  assert.match(nonsense.stderr, /--new-prefix: Use only letters/);
});

test('at a terminal: questions in order, each answer tested, a wrong one asked again, the password kept closed', async t => {
  if (!needs(t, 'script')) return;
  const root = folder(t);
  await makeClub(root);
  mkdirSync(join(root, 'work'));
  writeFileSync(join(root, 'work/.env'), 'OTHER=1\n', { mode: 0o600 });
  const said = await converse(
    join(root, 'work'),
    ['start'],
    [
      [/visitors find the site now/, oldPlace.address],
      [/answer, if not at that address/, ''],
      [/folder holds its files/, '../old'],
      [/✗ .*wordpress site is in its folder site[\s\S]*like to change/, ''],
      [/folder holds its files/, '../old/site'],
      [/dump of its database/, '../old/club.sql.gz'],
      [/other addresses[\s\S]*tmp-4417/, ''],
      [/find the site after the move/, 'https://saltmarshrowing.example'],
      [/before the DNS points to it/, ''],
      [/folder will hold its files/, '../new/site'],
      [/new database, as mysql/, await listening(t)],
      [/Its password/, 'wrong'],
      [/✗ credentials[\s\S]*like to change/, ''],
      [/Its password/, password],
      [/finished dump be written/, 'finished.sql.gz'],
      [/accept as one upload/, '5 MiB'],
      [/table prefix/, 'row_'],
      [/search engines/, ''],
      [/held back/, '*cache*'],
      [/web server/, ''],
      [/old host’s IP address/, ''],
      [/like to change[\s\S]*write the sheet/, ''],
    ],
  );
  assert.match(said, /Wrote \.\/move\.yaml \(wordpress site\)/);
  assert.ok(!said.includes(password));
  const sheet = readFileSync(join(root, 'work/move.yaml'), 'utf8');
  assert.match(sheet, /parts: 5 MiB/);
  assert.match(sheet, /switch-off: \[ "\*cache\*" \]/);
  assert.match(sheet, /also: \[ http:\/\/tmp-4417\.oldhost\.example\/~club \]/);
  const secrets = join(root, 'work/.env');
  assert.equal(readFileSync(secrets, 'utf8'), `OTHER=1\nNEW_DB_PASSWORD="${password}"\n`);
  assert.equal(statSync(secrets).mode & 0o777, 0o600);
  const survey = await run(['survey', '--json'], { cwd: join(root, 'work') });
  assert.equal(survey.code, 0, survey.stderr);
  assert.deepEqual(JSON.parse(survey.stdout).findings, []);
});

test('Ctrl-C ends start at once while a host does not answer, and the next run resumes', async t => {
  if (!needs(t, 'script')) return;
  const root = folder(t);
  await makeClub(root);
  const silent = createServer(() => {});
  await new Promise<void>(resolve => silent.listen(0, '127.0.0.1', resolve));
  const { port } = silent.address() as AddressInfo;
  const began = performance.now();
  const interrupted = converse(
    root,
    ['start'],
    [
      [/visitors find the site now/, oldPlace.address],
      [/answer, if not at that address/, ''],
      [/folder holds its files/, `sftp://porter@127.0.0.1:${port}/site`],
      [/private key opens it/, ''],
      [/password there/, 'pw'],
      [/password there[^\n]*\n/, '\x03'],
    ],
  );
  await assert.rejects(interrupted, /ended with 130, 0 questions[\s\S]*resumes where it was/);
  assert.ok(performance.now() - began < 15_000, 'a login is waited for 20 seconds');
  silent.close();
  const down = '\x1b[B';
  const said = await converse(
    root,
    ['start'],
    [
      // The password, the key, and the place itself.
      [/Continuing with 5 answers[\s\S]*✗ nobody listens[\s\S]*like to change/, `${down}${down}`],
      [/folder holds its files/, 'old/site'],
      [/dump of its database/, 'old/club.sql.gz'],
      [/other addresses/, '-'],
      [/find the site after the move/, 'https://n.example'],
      [/before the DNS points to it/, ''],
      [/folder will hold its files/, 'new/site'],
      [/new database, as mysql/, ''],
      [/finished dump be written/, ''],
      [/accept as one upload/, ''],
      [/table prefix/, ''],
      [/search engines/, ''],
      [/held back/, ''],
      [/web server/, ''],
      [/old host’s IP address/, ''],
      [/like to change[\s\S]*write the sheet/, ''],
    ],
  );
  assert.match(said, /Wrote \.\/move\.yaml/);
  const sheet = readFileSync(join(root, 'move.yaml'), 'utf8');
  assert.match(sheet, /files: old\/site/);
  assert.match(sheet, /also: \[\]/);
  assert.ok(!existsSync(join(root, '.start.json')));
});

test('for far places start asks how to get in, and tests each place with it', async t => {
  if (!needs(t, 'ssh-keyscan')) return;
  const root = folder(t);
  await makeClub(root);
  const account = { user: 'porter', password: "ebb 'n flow" };
  const host = new StandinSftpServer(root, account, false);
  const port = await host.listen();
  t.after(() => host.close());
  const far = `sftp://porter@127.0.0.1:${port}`;
  const flags = [
    ...['--old', oldPlace.address, '--old-files', `${far}/old/site`, '--old-dump', './old/club.sql.gz'],
    ...['--new', 'https://n.example', '--new-files', `${far}/n`, '--new-dump', 'n.sql'],
    ...['--old-files-password-variable', 'THERE', '--new-files-password-variable', 'THERE'],
  ];
  const start = (password: string) =>
    run(['start', ...flags, '--yes'], { cwd: root, env: { THERE: password } });
  const unknown = await start(account.password);
  assert.ok(unknown.stderr.includes(`its key ${host.fingerprint} is not known`), unknown.stderr);
  assert.deepEqual([unknown.code, existsSync(join(root, 'move.yaml'))], [3, false]);
  const { stdout: key } = await promisify(execFile)('ssh-keyscan', ['-p', String(port), '127.0.0.1']);
  writeFileSync(join(root, 'known_hosts'), key);
  const wrong = await start('other');
  assert.match(wrong.stderr, /--old-files-password-variable\n +✗ the host refuses the login/);
  const started = await start(account.password);
  assert.match(started.stderr, /a wordpress 6\.4\.3 site, database club_old/);
  assert.match(started.stderr, /can be written, empty/);
  const sheet = readFileSync(join(root, 'move.yaml'), 'utf8');
  assert.equal(sheet.match(/login: \{ password: "\$\{THERE\}" \}/g)?.length, 2);
  assert.ok(!(sheet + started.stdout + started.stderr).includes(account.password));
});

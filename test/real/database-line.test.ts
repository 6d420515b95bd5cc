import assert from 'node:assert/strict';
import { execFileSync } from 'node:child_process';
import { createServer } from 'node:net';
import { join } from 'node:path';
import { test } from 'node:test';
import { lineTo, readDatabaseUrl } from '../../src/core/database/place.js';
import { EndError } from '../../src/core/errors.js';
import { sql } from '../../src/core/sql/encoded-sql.js';
import { openSession } from '../../src/ends/database/server/session/open-session.js';
import { folder } from '../help/program.js';
import { needs } from '../help/real.js';
import { freePort, OwnDatabase } from './database.js';

test('beyond this machine a database is reached by TLS with a certificate that is verified, unless asked otherwise', () => {
  const line = (url: string, isTunnelled = false) => {
    const place = readDatabaseUrl(url);
    return place && lineTo(place, isTunnelled);
  };
  assert.equal(line('mysql://u@db.example/n'), 'verified');
  assert.equal(line('mysql://u@192.0.2.7/n'), 'verified');
  assert.equal(line('mysql://u@db.example/n?tls=unverified'), 'unverified');
  assert.equal(line('mysql://u@db.example/n?tls=off'), 'clear');
  assert.equal(line('mysql://u@db.example/n?tls=no'), undefined);
  assert.equal(line('mysql://u@db.example/n', true), 'tunnel');
  for (const host of ['localhost', '127.0.0.1', '[::1]', '127.1.2.3'])
    assert.equal(line(`mysql://u@${host}/n`), 'here');
  assert.equal(line('mysql://u@127.0.0.1.db.example/n'), 'verified');
  assert.equal(line('mysql://u@127.0.0.1/n?tls=verify'), 'verified');
});

test('a server without TLS, one that nobody vouches for, and one that asks for the password in the clear are refused', {
  timeout: 120_000,
}, async t => {
  if (!needs(t, 'mariadbd', 'mariadb-install-db', 'mariadb', 'openssl')) return;
  const root = folder(t);
  const [key, certificate] = [join(root, 'key.pem'), join(root, 'cert.pem')];
  const asked = `req -x509 -newkey rsa:2048 -nodes -days 2 -subj /CN=db.example -keyout ${key} -out ${certificate}`;
  execFileSync('openssl', asked.split(' '), { stdio: 'ignore' });
  const plain = await OwnDatabase.start('--skip-ssl');
  t.after(() => plain.close());
  const secured = await OwnDatabase.start(`--ssl-key=${key}`, `--ssl-cert=${certificate}`);
  t.after(() => secured.close());
  const open = async ({ port }: { readonly port: number }, tls: string) => {
    const place = readDatabaseUrl(`mysql://root@127.0.0.1:${port}/mysql?tls=${tls}`)!;
    const session = await openSession({ place, through: undefined });
    const [row] = await session.rows(sql`SHOW STATUS LIKE 'Ssl_cipher'`);
    await session.close();
    return row?.[1];
  };
  const isRefused = (cause: RegExp) => (error: unknown) =>
    error instanceof EndError && cause.test(error.message) && /\?tls=unverified/.test(error.details.remedy);
  await assert.rejects(open(plain, 'verify'), isRefused(/offers no TLS/));
  await assert.rejects(open(plain, 'unverified'), isRefused(/offers no TLS/));
  assert.equal(await open(plain, 'off'), '');
  await assert.rejects(open(secured, 'verify'), isRefused(/nobody vouches for the server/));
  assert.match((await open(secured, 'unverified')) ?? '', /AES|CHACHA/);
  // Only its greeting, and then the wish for the password as it is.
  const port = await freePort();
  let said = Buffer.alloc(0);
  const packet = (number: number, body: Buffer) =>
    Buffer.concat([Buffer.from([body.length, 0, 0, number]), body]);
  const thief = createServer(socket => {
    const greeting = Buffer.concat([
      Buffer.from([10]),
      Buffer.from('10.11.6-MariaDB\0'),
      Buffer.from([1, 0, 0, 0]),
      Buffer.from('12345678\0'),
      Buffer.from([0xff, 0xf7, 33, 2, 0, 0xff, 0x81, 21]),
      Buffer.alloc(10),
      Buffer.from('123456789012\0mysql_native_password\0'),
    ]);
    socket.write(packet(0, greeting));
    socket.on('error', () => {});
    socket.on('data', data => {
      said = Buffer.concat([said, data]);
      if (said.length === data.length)
        socket.write(packet(2, Buffer.from('\xfemysql_clear_password\0', 'latin1')));
    });
  });
  await new Promise<void>(resolve => thief.listen(port, '127.0.0.1', resolve));
  t.after(() => thief.close());
  const place = {
    ...readDatabaseUrl(`mysql://club@127.0.0.1:${port}/n?tls=off`)!,
    // This machine by a name that does not say so.
    host: '0.0.0.0',
    password: 'low water',
  };
  await assert.rejects(openSession({ place, through: undefined }), /others on the line could read/);
  assert.ok(!said.includes('low water'));
});

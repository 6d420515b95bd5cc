import assert from 'node:assert/strict';
import { execFileSync, spawn } from 'node:child_process';
import { X509Certificate } from 'node:crypto';
import { existsSync, mkdirSync, readFileSync, statSync, writeFileSync } from 'node:fs';
import { createServer } from 'node:http';
import type { AddressInfo } from 'node:net';
import { join } from 'node:path';
import { type TestContext, test } from 'node:test';
import type { TsigKey } from '../../src/core/dns/message/tsig.js';
import { parseName } from '../../src/core/dns/records/name.js';
import { serverText } from '../../src/ends/dns/server.js';
import { folder, run } from '../help/program.js';
import { needs } from '../help/real.js';
import { freePort, listens, until } from './database.js';
import { startDnsServer } from './dns-servers.js';

const key: TsigKey = {
  name: parseName('porter.'),
  algorithm: 'hmac-sha256',
  secret: Buffer.from('neap tide'),
};

/** A certificate authority of the test's own; it asks one DNS server, and HTTP at one port. */
async function startAuthority(t: TestContext, root: string, dns: string, httpPort: number) {
  const [port, management] = [await freePort(), await freePort()];
  execFileSync(
    'openssl',
    [
      'req',
      '-x509',
      '-newkey',
      'ec',
      '-pkeyopt',
      'ec_paramgen_curve:prime256v1',
      '-nodes',
      '-days',
      '2',
      '-subj',
      '/CN=127.0.0.1',
      '-addext',
      'subjectAltName=IP:127.0.0.1',
      '-keyout',
      'ca.key',
      '-out',
      'ca.pem',
    ],
    { cwd: root, stdio: 'ignore' },
  );
  const pebble = {
    listenAddress: `127.0.0.1:${port}`,
    managementListenAddress: `127.0.0.1:${management}`,
    certificate: join(root, 'ca.pem'),
    privateKey: join(root, 'ca.key'),
    httpPort,
    tlsPort: await freePort(),
    ocspResponderURL: '',
    externalAccountBindingRequired: false,
  };
  writeFileSync(join(root, 'pebble.json'), JSON.stringify({ pebble }));
  const server = spawn('pebble', ['-config', join(root, 'pebble.json'), '-dnsserver', dns], {
    env: { ...process.env, PEBBLE_VA_NOSLEEP: '1', PEBBLE_WFE_NONCEREJECT: '20' },
    stdio: 'ignore',
  });
  const gone = new Promise<void>(resolve => server.once('exit', () => resolve()));
  t.after(async () => {
    server.kill('SIGTERM');
    await gone;
  });
  await until('the authority', () => listens(port));
  return { directory: `https://127.0.0.1:${port}/dir`, trusted: join(root, 'ca.pem') };
}

for (const method of ['dns', 'http'] as const) {
  test(`a certificate is there before the switch, proved by ${method}`, async t => {
    if (!needs(t, 'pebble', 'named', 'openssl')) return;
    const root = folder(t);
    for (const name of ['old', 'new', 'move']) mkdirSync(join(root, name));
    writeFileSync(join(root, 'old/index.html'), '<title>Club</title>');
    const zone = `$ORIGIN saltmarsh.example.\n@ 60 SOA ns1 keeper 1 7200 900 1209600 60\n@ 60 NS ns1\nns1 60 A 127.0.0.1\n@ 60 A 127.0.0.1\nwww 60 A 127.0.0.1\n_acme-challenge 3600 TXT "somebody else's"\n`;
    const apex = parseName('saltmarsh.example.');
    const dns = await startDnsServer(t, 'named', [{ apex, text: zone }], [key]);
    const asked: string[] = [];
    const web = createServer((request, response) => {
      asked.push(request.url!);
      const file = join(root, 'old', request.url!);
      if (existsSync(file) && statSync(file).isFile()) response.end(readFileSync(file));
      else response.writeHead(404).end();
    });
    await new Promise<void>(done => web.listen(0, '127.0.0.1', done));
    t.after(() => web.close());
    const { port } = web.address() as AddressInfo;
    const { directory, trusted } = await startAuthority(t, root, serverText(dns), port);
    writeFileSync(
      join(root, 'move/move.yaml'),
      `name: saltmarsh
old: { address: "https://saltmarsh.example", files: ../old }
new: { address: "https://saltmarsh.example", files: ../new }
take: { database: false }
dns:
  server: dns://${serverText(dns)}
  servers: ["${serverText(dns)}"]
  key: { name: porter., secret: "${key.secret.toString('base64')}" }
  address-records: { old: 127.0.0.1, new: 198.51.100.20 }
  certificate: { directory: "${directory}", method: ${method} }
`,
    );
    const step = (args: string[]) =>
      run(['cutover', ...args, '--json', '--quiet', '--yes'], {
        cwd: join(root, 'move'),
        env: { ...process.env, NODE_EXTRA_CA_CERTS: trusted },
      });
    assert.equal((await step([])).code, 0);
    for (let time = 1; time <= 2; time++) {
      const ran = await step(['prepare', '--certificate']);
      assert.equal(ran.code, 0, ran.stdout + ran.stderr);
      const { certificate } = JSON.parse(ran.stdout).result;
      assert.deepEqual(certificate.hosts, ['saltmarsh.example', 'www.saltmarsh.example']);
      const given = new X509Certificate(readFileSync(certificate.chain));
      assert.equal(given.subjectAltName, 'DNS:saltmarsh.example, DNS:www.saltmarsh.example');
      const own = readFileSync(certificate.key, 'utf8');
      assert.ok(given.checkPrivateKey((await import('node:crypto')).createPrivateKey(own)));
      for (const file of [certificate.key, certificate.chain])
        assert.equal(statSync(file).mode & 0o777, 0o600);
    }
    assert.equal(
      asked.some(path => path.startsWith('/.well-known/acme-challenge/')),
      method === 'http',
    );
    // Nothing of the proofs is left.
    assert.deepEqual(
      existsSync(join(root, 'old/.well-known/acme-challenge'))
        ? execFileSync('ls', [join(root, 'old/.well-known/acme-challenge')], { encoding: 'utf8' })
        : '',
      '',
    );
    const shown = execFileSync(
      'dig',
      ['@127.0.0.1', '-p', String(dns.port), '_acme-challenge.saltmarsh.example', 'TXT', '+short'],
      { encoding: 'utf8' },
    );
    assert.equal(shown, '"somebody else\'s"\n');
  });
}

import assert from 'node:assert/strict';
import { execFileSync, spawnSync } from 'node:child_process';
import { X509Certificate } from 'node:crypto';
import { existsSync, mkdirSync, readdirSync, readFileSync, rmSync, utimesSync, writeFileSync } from 'node:fs';
import { createServer } from 'node:https';
import type { AddressInfo } from 'node:net';
import { hostname } from 'node:os';
import { join } from 'node:path';
import { test } from 'node:test';
import { parseAddress } from '../../src/core/address/address.js';
import { asBytes } from '../../src/core/bytes.js';
import { recordLine } from '../../src/core/dns/records/record.js';
import type { EndError } from '../../src/core/errors.js';
import { fingerprintOf, hostLine } from '../../src/core/ssh/known-hosts.js';
import { ServerDatabase } from '../../src/ends/database/server/server-database.js';
import { Resolver } from '../../src/ends/dns/resolver.js';
import { testFolder } from '../../src/ends/files/folder-test.js';
import { LocalFiles } from '../../src/ends/files/local.js';
import { WebSite } from '../../src/ends/http/web-site.js';
import { MoveLock } from '../../src/ends/move-folder/lock.js';
import type { Unknown } from '../../src/ends/trust/ask-trust.js';
import { lookAtCertificate } from '../../src/ends/trust/certificate.js';
import { HostKeys } from '../../src/ends/trust/host-keys.js';
import { trustIn } from '../../src/ends/trust/trust.js';
import { StandinDatabase } from '../../src/standins/database.js';
import { StandinDatabaseServer } from '../../src/standins/database-server.js';
import { StandinDnsServer } from '../../src/standins/dns/dns-server.js';
import { folder, run } from '../help/program.js';
import { needs } from '../help/real.js';

const signal = new AbortController().signal;

test('the time of a local file is never later than it is, and comes back as it was set', async t => {
  const root = folder(t);
  const files = new LocalFiles(root);
  const path = asBytes('file');
  writeFileSync(join(root, 'file'), '');
  utimesSync(join(root, 'file'), 0, 1_795_993_898.9997);
  assert.equal((await files.entry(path))?.mtime, 1_795_993_898_999);
  for (let mtime = 1_795_993_898_000; mtime < 1_795_993_898_100; mtime++) {
    await files.write(path, Buffer.from(''), { mode: 0o644, mtime });
    assert.equal((await files.entry(path))?.mtime, mtime);
  }
});

test('a resolver gives records with their TTLs, over a connection where they do not fit a datagram', async t => {
  const texts = Array.from({ length: 40 }, (_, n) => ` 60 TXT "${n} ${'v'.repeat(60)}"\n`).join('');
  const server = new StandinDnsServer([
    `club.example. 60 SOA a b 1 2 3 4 5\n${texts} 60 MX 5 mail.example.\nwww 77 CNAME club.example.\n`,
  ]);
  const address = await server.listen();
  t.after(() => server.close());
  const resolver = new Resolver([address]);
  const shown = async (host: string, type: string) =>
    (await resolver.records(host, type, signal)).map(recordLine);
  assert.deepEqual(await shown('club.example', 'MX'), ['club.example. 60 IN MX 5 mail.example.']);
  assert.equal((await shown('club.example', 'TXT')).length, 40);
  assert.deepEqual(await shown('www.club.example', 'A'), ['www.club.example. 77 IN CNAME club.example.']);
  assert.deepEqual(await shown('nowhere.club.example', 'A'), []);
  await assert.rejects(new Resolver(['127.0.0.1:9']).records('club.example', 'A', signal));
  const aborted = AbortSignal.abort(new Error('enough'));
  await assert.rejects(resolver.records('club.example', 'A', aborted), /enough/);
});

test('a database server says what it is; wrong credentials and wrong names differ', async t => {
  const database = new StandinDatabase({ name: 'my_db', user: 'u', password: "p'w" });
  const server = new StandinDatabaseServer(database, { skew: -900 });
  const port = await server.listen();
  t.after(() => server.close());
  const place = { host: '127.0.0.1', port, user: 'u', password: "p'w", name: 'my_db' };
  const look = (at: typeof place) =>
    new ServerDatabase({ place: at, through: undefined }).use(connection => connection.server());
  const seen = await look(place);
  assert.deepEqual([seen.missingRights, seen.packet, seen.charset], [[], 16 * 1024 * 1024, 'utf8mb4']);
  assert.ok(Math.abs(seen.skew + 900) <= 2);
  const kind = async (change: Partial<typeof place>) => {
    return look({ ...place, ...change }).then(
      () => 'opened',
      (error: EndError) => error.kind,
    );
  };
  assert.equal(await kind({ password: 'p' }), 'credentials');
  assert.equal(await kind({ password: '' }), 'credentials');
  assert.equal(await kind({ name: 'other' }), 'no such database');
  assert.equal(await kind({ port: 9 }), 'unreachable');
});

test('what was tried out at a place is gone afterwards, also where it could not be', async t => {
  const root = folder(t);
  // What a killed run left goes as well.
  mkdirSync(join(root, '.able-porter-trial-club/left'), { recursive: true });
  const trial = await testFolder(new LocalFiles(root), 'club', signal);
  assert.ok(trial.writable && trial.renames && trial.links && trial.write!.bytesPerSecond > 0);
  assert.deepEqual(readdirSync(root), []);
  const stuck = Object.assign(new LocalFiles(root), {
    rename: () => Promise.reject(new Error('no')),
    makeLink: () => Promise.reject(new Error('no')),
  });
  assert.deepEqual(
    { ...(await testFolder(stuck, 'club', signal)), write: 0 },
    { writable: true, renames: false, links: false, write: 0 },
  );
  assert.deepEqual(readdirSync(root), []);
});

test('certificates are judged as browsers do: self-signed, expired, for another name, ending soon', async t => {
  if (!needs(t, 'openssl')) return;
  const root = folder(t);
  const at = (name: string) => join(root, name);
  const openssl = (...args: string[]) =>
    execFileSync('openssl', args, { cwd: root, stdio: ['ignore', 'pipe', 'ignore'] });
  const key = ['-newkey', 'ec', '-pkeyopt', 'ec_paramgen_curve:prime256v1', '-nodes'];
  openssl(
    'req',
    '-x509',
    ...key,
    '-keyout',
    'ca.key',
    '-out',
    'ca.pem',
    '-days',
    '100',
    '-subj',
    '/O=Saltmarsh Authority',
  );
  const issue = (name: string, host: string, days: string, ...more: string[]) => {
    openssl('req', ...key, '-keyout', `${name}.key`, '-out', `${name}.csr`, '-subj', `/CN=${host}`);
    writeFileSync(at(`${name}.ext`), `subjectAltName=DNS:${host}\n`);
    openssl(
      'x509',
      '-req',
      '-in',
      `${name}.csr`,
      '-CA',
      'ca.pem',
      '-CAkey',
      'ca.key',
      '-CAcreateserial',
      '-out',
      `${name}.pem`,
      '-days',
      days,
      '-extfile',
      `${name}.ext`,
      ...more,
    );
  };
  issue('soon', 'club.saltmarsh.example', '10');
  issue('other', 'other.example', '90');
  const served = async (name: string) => {
    const server = createServer(
      { key: readFileSync(at(`${name}.key`)), cert: readFileSync(at(`${name}.pem`)) },
      (_, response) => response.end('<title>Club</title>'),
    );
    t.after(() => server.close());
    await new Promise<void>(resolve => server.listen(0, '127.0.0.1', resolve));
    return (server.address() as AddressInfo).port;
  };
  const soon = await served('soon');
  const seen = await lookAtCertificate('127.0.0.1', soon, 'club.saltmarsh.example', signal);
  assert.equal(seen.issuer, 'Saltmarsh Authority');
  assert.match(seen.refused!, /intermediate|nobody knows/);

  mkdirSync(at('site'));
  writeFileSync(at('site/index.html'), 'x');
  const codes = async (port: number, env: Record<string, string>) => {
    writeFileSync(
      at('move.yaml'),
      `name: club\nold: { address: "https://club.saltmarsh.example", reach: "https://127.0.0.1:${port}", files: ./site }\nnew: { address: "https://saltmarshrowing.example", files: ../new${root.slice(-6)} }\n`,
    );
    mkdirSync(at('sheet'), { recursive: true });
    execFileSync('mv', [at('move.yaml'), at('sheet/move.yaml')]);
    execFileSync('sed', ['-i', 's|files: ./site|files: ../site|', at('sheet/move.yaml')]);
    const ran = await run(['survey', '--json'], { cwd: at('sheet'), env });
    return (JSON.parse(ran.stdout).findings as { level: string; code: string }[]).map(
      ({ level, code }) => `${level} ${code}`,
    );
  };
  const trusting = { NODE_EXTRA_CA_CERTS: at('ca.pem') };
  assert.deepEqual(await codes(soon, trusting), ['warn certificate-ends-soon']);
  assert.deepEqual(await codes(soon, {}), ['warn certificate-refused']);
  assert.deepEqual(await codes(await served('other'), trusting), ['warn certificate-refused']);
  assert.ok(existsSync(at('sheet/results/survey.json')));

  const certificates = [readFileSync(at('soon.pem')), readFileSync(at('other.pem'))];
  const [own, others] = certificates.map(pem => new X509Certificate(pem).fingerprint256);
  const asked: Unknown[] = [];
  const site = (wanted: string | undefined, answer?: boolean) => {
    const ask = async (unknown: Unknown) => asked.push(unknown) > 0 && answer!;
    const trust = trustIn(root, answer === undefined ? undefined : ask);
    return new WebSite(
      parseAddress('https://club.saltmarsh.example'),
      parseAddress(`https://127.0.0.1:${soon}`),
      { trust: { certificates: trust.certificates, wanted, key: 'new.certificate' } },
    );
  };
  const title = async (one: WebSite) => (await one.get('/', signal)).html;
  await assert.rejects(
    title(site(undefined)),
    new RegExp(`to accept it, write new.certificate: SHA256:${own}`),
  );
  await assert.rejects(title(site(others)), /the sheet says/);
  assert.match(await title(site(`sha256 Fingerprint=${own}`)), /Club/);
  await assert.rejects(title(site(undefined, false)), /not accepted/);
  const agreed = site(undefined, true);
  assert.equal((await Promise.all([1, 2, 3].map(() => title(agreed)))).length, 3);
  assert.deepEqual(
    asked.map(({ host, fingerprint }) => [host, fingerprint]),
    [1, 2].map(() => [`127.0.0.1:${soon}`, `SHA256:${own}`]),
  );
  assert.match(await title(site(undefined)), /Club/, 'what was accepted is kept');
});

test('one run works on a move at a time, and what a killed one left is recognised', async t => {
  const root = folder(t);
  const file = join(root, '.lock');
  const lock = await MoveLock.take(file);
  await assert.rejects(MoveLock.take(file), new RegExp(`process ${process.pid} on `));
  await lock.release();
  const { pid } = spawnSync('true');
  const holder = { pid, host: hostname(), began: '', since: new Date().toISOString() };
  // Of a process that has ended, of one whose number is used again, and one that a full disk cut short.
  for (const left of [
    JSON.stringify(holder),
    JSON.stringify({ ...holder, pid: process.pid, began: '1' }),
    '{"pi',
  ]) {
    writeFileSync(file, left);
    await (await MoveLock.take(file)).release();
    assert.ok(!existsSync(file));
  }
  // Nobody can know of a process of another machine.
  writeFileSync(file, JSON.stringify({ ...holder, host: 'elsewhere' }));
  await assert.rejects(MoveLock.take(file), /on elsewhere/);
  // Runs that begin in the same moment: one of them works.
  rmSync(file);
  const all = await Promise.allSettled(Array.from({ length: 20 }, () => MoveLock.take(file)));
  assert.equal(all.filter(({ status }) => status === 'fulfilled').length, 1);
});

test('a known host that shows a key of another kind has changed: what is known is named, and nobody is asked', async t => {
  const root = folder(t);
  const wire = (type: string) => {
    const length = Buffer.alloc(4);
    length.writeUInt32BE(type.length);
    return Buffer.concat([length, Buffer.from(type), Buffer.from(`of ${type}`)]);
  };
  const [known, other] = [wire('ssh-ed25519'), wire('ssh-rsa')];
  writeFileSync(join(root, 'known_hosts'), `${hostLine('old.example', 22, known)}\n`);
  let asked = 0;
  const keys = new HostKeys(root, async () => {
    asked++;
    return true;
  });
  assert.equal(await keys.refuses('old.example', 22, known, undefined), undefined);
  const why = await keys.refuses('old.example', 22, other, undefined);
  assert.ok(why?.includes(`known is ssh-ed25519 ${fingerprintOf(known)}`), why);
  assert.equal(asked, 0);
  assert.equal(await keys.refuses('new.example', 22, other, undefined), undefined);
  assert.equal(asked, 1);
});

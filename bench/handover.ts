// Hands a crate of 300 MB over a line of 20 ms each way, beside one plain HTTPS download of the same bytes by curl. Usage: npm
// run bench:handover -- [MB]
import { execFileSync, spawn } from 'node:child_process';
import { randomBytes } from 'node:crypto';
import { createReadStream, mkdirSync, mkdtempSync, rmSync, statSync, writeFileSync } from 'node:fs';
import { createServer } from 'node:https';
import type { AddressInfo } from 'node:net';
import { tmpdir } from 'node:os';
import { join } from 'node:path';
import { readTicket, writeTicket } from '../src/core/handover/ticket.js';
import { oneTimeCertificate } from '../src/ends/handover/certificate.js';
import { Relay } from '../test/help/relay.js';

const program = new URL('../dist/cli/main.js', import.meta.url).pathname;
const root = mkdtempSync(join(tmpdir(), 'able-porter-bench-'));
const megabytes = Number(process.argv[2] ?? 300);
const at = (...parts: string[]) => join(root, ...parts);

for (const name of ['old/wp-includes', 'new', 'a', 'b']) mkdirSync(at(name), { recursive: true });
writeFileSync(at('old/wp-includes/version.php'), "<?php $wp_version = '6.1';\n");
writeFileSync(at('old/wp-config.php'), "<?php define('DB_NAME', 'o'); $table_prefix = 'wp_';\n");
for (let i = 0; i < 1000; i++) writeFileSync(at('old', `file-${i}`), randomBytes(megabytes * 1000));
for (const name of ['a', 'b'])
  writeFileSync(
    at(name, 'move.yaml'),
    'name: club\nold: { address: https://old.example, files: ../old }\nnew: { address: https://new.example, files: ../new }\n',
  );

async function behindRelay<T>(port: number, work: (port: number) => Promise<T>): Promise<T> {
  const relay = new Relay(port, 20);
  try {
    return await work(await relay.listen());
  } finally {
    await relay.close();
  }
}

async function timed(work: () => Promise<unknown>): Promise<number> {
  const began = performance.now();
  await work();
  return (performance.now() - began) / 1000;
}

async function ended(child: ReturnType<typeof spawn>): Promise<void> {
  const code = await new Promise(resolve => child.once('exit', resolve));
  if (code !== 0) throw new Error(`it ended with ${code}`);
}

try {
  execFileSync('node', [program, 'pack', '--quiet'], { cwd: at('a') });
  execFileSync('tar', ['-cf', at('all.tar'), '-C', at('a'), 'crate']);
  const { key, cert } = await oneTimeCertificate(Date.now() + 3_600_000);
  const plain = createServer({ key, cert }, (_request, response) =>
    createReadStream(at('all.tar')).pipe(response),
  );
  await new Promise<void>(resolve => plain.listen(0, '127.0.0.1', resolve));
  const curl = await behindRelay((plain.address() as AddressInfo).port, port =>
    timed(() => ended(spawn('curl', ['-sk', '-o', at('got.tar'), `https://127.0.0.1:${port}/`]))),
  );
  plain.close();
  const offer = spawn('node', [program, 'offer', '--at', '127.0.0.1'], { cwd: at('a') });
  const offered = ended(offer);
  const text = await new Promise<string>(resolve => {
    let said = '';
    offer.stderr.on('data', chunk => {
      said += chunk;
      const [ticket] = /porter-\S+/.exec(said) ?? [];
      if (ticket) resolve(ticket);
    });
  });
  const ticket = readTicket(text);
  const ours = await behindRelay(Number(ticket.addresses[0]!.split(':')[1]), port => {
    const there = writeTicket({ ...ticket, addresses: [`127.0.0.1:${port}`] });
    return timed(() => ended(spawn('node', [program, 'collect', there, '--quiet'], { cwd: at('b') })));
  });
  await offered;
  const size = statSync(at('all.tar')).size / 1e6;
  console.log(`${size.toFixed(0)} MB over a line of 20 ms each way`);
  console.log(`curl ${curl.toFixed(1)} s, ${(size / curl).toFixed(0)} MB/s`);
  console.log(
    `collect, with verifying and unpacking ${ours.toFixed(1)} s: ${(curl / ours).toFixed(2)} × the rate`,
  );
} finally {
  rmSync(root, { recursive: true, force: true });
}

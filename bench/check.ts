// Compares the pages of two sites, each behind a line of 20 ms each way: eight at a time, and one after the other; and 2,000
// pages for the memory. Usage: npm run bench:check -- [PAGES]
import { spawn } from 'node:child_process';
import { mkdirSync, mkdtempSync, readFileSync, rmSync, writeFileSync } from 'node:fs';
import { createServer } from 'node:http';
import type { AddressInfo } from 'node:net';
import { tmpdir } from 'node:os';
import { join } from 'node:path';
import { Relay } from '../test/help/relay.js';

const program = new URL('../dist/cli/main.js', import.meta.url).pathname;
const root = mkdtempSync(join(tmpdir(), 'able-porter-bench-'));
const pages = Number(process.argv[2] ?? 2000);
const few = 200;
const words = 'creek tide oar boat river row club water wind ebb flow bank buoy'.split(' ');

/** A site of so many pages, each with a menu, forty lines and a number that changes. */
async function site(address: string, count: number): Promise<number> {
  const base = new URL(address).pathname.replace(/\/$/, '');
  const server = createServer((request, response) => {
    const path = request.url!.slice(base.length);
    const [, number] = /^\/page-(\d+)\/$/.exec(path) ?? [];
    response.setHeader('content-type', 'text/html; charset=utf-8');
    if (path !== '/' && (number === undefined || Number(number) > count))
      return void response.writeHead(404).end('<h1>No</h1>');
    const n = Number(number ?? 0);
    const links = Array.from(
      { length: 12 },
      (_, i) => `<a href="${address}/page-${((n * 12 + i) % count) + 1}/">Page ${n * 12 + i}</a>`,
    );
    const lines = Array.from({ length: 40 }, (_, i) =>
      `<p>${words[(n + i) % 13]} ${words[(n * i) % 13]} ${n * i}</p>`.repeat(8),
    );
    response.end(
      `<!doctype html><html><head><title>Page ${n}</title></head><body><nav>${links.join(' ')}</nav>${lines.join('\n')}<p>Visitor ${Math.random()}</p></body></html>`,
    );
  });
  await new Promise<void>(resolve => server.listen(0, '127.0.0.1', resolve));
  const relay = new Relay((server.address() as AddressInfo).port, 20);
  closing.push(async () => {
    await relay.close();
    server.closeAllConnections();
    server.close();
  });
  return relay.listen();
}

const closing: (() => Promise<void>)[] = [];

async function ran(args: readonly string[], cwd: string): Promise<{ seconds: number; memory: number }> {
  const began = performance.now();
  const child = spawn(process.execPath, [program, ...args], { cwd, stdio: ['ignore', 'ignore', 'inherit'] });
  let memory = 0;
  const watching = setInterval(() => {
    const [, kilobytes] = /VmHWM:\s+(\d+)/.exec(readStatus(child.pid!)) ?? [];
    memory = Math.max(memory, Number(kilobytes ?? 0) / 1024);
  }, 100);
  const code = await new Promise(resolve => child.once('exit', resolve));
  clearInterval(watching);
  if (code !== 0) throw new Error(`able-porter ${args.join(' ')} ended with ${code}`);
  return { seconds: (performance.now() - began) / 1000, memory };
}

function readStatus(pid: number): string {
  try {
    return readFileSync(`/proc/${pid}/status`, 'utf8');
  } catch {
    return '';
  }
}

async function compared(
  name: string,
  count: number,
  atOnce: number,
): Promise<{ seconds: number; memory: number }> {
  const folder = join(root, name);
  mkdirSync(join(folder, 'old'), { recursive: true });
  mkdirSync(join(folder, 'new'));
  writeFileSync(join(folder, 'old/index.html'), '<h1>Club</h1>');
  const [old, next] = ['https://club.saltmarsh.example/site', 'https://saltmarshrowing.example'] as const;
  writeFileSync(
    join(folder, 'move.yaml'),
    `name: club
old: { address: ${old}, reach: "http://127.0.0.1:${await site(old, count)}", files: old }
new: { address: ${next}, reach: "http://127.0.0.1:${await site(next, count)}", files: new }
take: { database: false }
check: { pages: ${count + 1}, at-once: ${atOnce} }
`,
  );
  for (const step of ['pack', 'rewrite', 'deliver']) await ran([step, '--yes', '--quiet'], folder);
  return ran(['check', '--quiet'], folder);
}

try {
  const one = await compared('one', few, 1);
  const eight = await compared('eight', few, 8);
  const many = await compared('many', pages, 8);
  const text = ({ seconds, memory }: typeof one) => `${seconds.toFixed(1)} s, ${memory.toFixed(0)} MB`;
  process.stdout.write(`${few} pages, one after the other   ${text(one)}
${few} pages, eight at a time     ${text(eight)} (${(eight.seconds / one.seconds).toFixed(2)} of that)
${pages} pages, eight at a time    ${text(many)}\n`);
} finally {
  for (const close of closing) await close();
  rmSync(root, { recursive: true });
}

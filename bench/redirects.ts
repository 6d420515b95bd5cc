// Requests per second of each web server with 10,000 single redirects, and with none. Half of the requests are for redirected pages
// that are spread over the list, half for others. Usage: npm run bench:redirects -- [SINGLES]
import { Agent, get } from 'node:http';
import type { TestContext } from 'node:test';
import { dialects } from '../src/core/redirects/dialects/dialects.js';
import type { RedirectSet } from '../src/core/redirects/redirect-set.js';
import { setOf } from '../test/help/redirect-sets.js';
import {
  htdocsWith,
  type RedirectServer,
  startApache,
  startCaddy,
  startNginx,
  startPhp,
} from '../test/real/web-servers.js';

const singles = Number(process.argv[2] ?? 10_000);
const millis = 2_000;
const rounds = 3;
const connections = 16;
const place = { old: 'http://old.example', to: 'https://new.example' };
const none = setOf(place);
const many = setOf({
  ...place,
  singles: Array.from(
    { length: singles },
    (_, i) => [`/2019/05/entry-number-${i}/`, `/log/entry-number-${i}/`] as const,
  ),
});

const ending: (() => unknown)[] = [];
/** What the servers of tests want of a test: to be told when it ends. */
const context = { after: (work: () => unknown) => ending.push(work) } as unknown as TestContext;

const filesOf = (name: string, set: RedirectSet) => dialects.find(one => one.name === name)!.files(set, []);
const servers: Record<string, (set: RedirectSet) => Promise<RedirectServer>> = {
  nginx: set => startNginx(context, filesOf('nginx', set)),
  php: set =>
    startPhp(
      context,
      filesOf('php', set),
      '-d',
      'opcache.enable_cli=1',
      '-d',
      'opcache.file_update_protection=0',
    ),
  apache: set =>
    startApache(context, htdocsWith(context, filesOf('apache', set)), {
      prefork: true,
      configuration: 'StartServers 8\nMinSpareServers 8\nMaxKeepAliveRequests 0\n',
    }),
  'apache, a plain list of RewriteRule': set =>
    startApache(context, htdocsWith(context, [plainList(set)]), {
      prefork: true,
      configuration: 'StartServers 8\nMinSpareServers 8\nMaxKeepAliveRequests 0\n',
    }),
  caddy: set => startCaddy(context, filesOf('caddy', set)),
};

/** What one would write by hand. */
function plainList(set: RedirectSet) {
  const lines = set.singles.map(({ key, target }) => `RewriteRule ^${key.slice(1)}/?$ ${target} [R=301,L]\n`);
  return {
    path: '.htaccess',
    text: `RewriteEngine On\n${lines.join('')}RewriteRule ^(.*)$ https://new.example/$1 [R=301,L]\n`,
  };
}

/** Answers within some time. */
async function rate({ port }: RedirectServer): Promise<number> {
  const agent = new Agent({ keepAlive: true, maxSockets: connections });
  const ask = (n: number) =>
    new Promise<void>((resolve, reject) => {
      const page = (n * 7919) % singles;
      const path = n % 2 === 0 ? `/2019/05/entry-number-${page}/` : `/other/page-${page}/`;
      get({ agent, host: '127.0.0.1', port, path, headers: { host: 'old.example' } }, answer => {
        if (answer.statusCode !== 301) reject(new Error(`${path} answers ${answer.statusCode}`));
        answer.resume().once('end', resolve);
      }).once('error', reject);
    });
  let n = 0;
  const work = async (until: number) => {
    while (performance.now() < until) await ask(n++);
  };
  const during = async (time: number) => {
    n = 0;
    const began = performance.now();
    await Promise.all(Array.from({ length: connections }, () => work(began + time)));
    return n / ((performance.now() - began) / 1000);
  };
  await during(500);
  const found = await during(millis);
  agent.destroy();
  return found;
}

console.log(`${singles} single redirects; requests per second`);
console.log('server                                   none   ten thousand   ratio');
for (const [name, start] of Object.entries(servers)) {
  const both = [await start(none), await start(many)];
  // By turns, so that both have the same share of what else the machine does.
  const best = [0, 0];
  for (let round = 0; round < rounds; round++)
    for (const [i, server] of both.entries()) best[i] = Math.max(best[i]!, await rate(server));
  for (const server of both) await server.stop();
  const [plain, full] = best as [number, number];
  console.log(
    `${name.padEnd(38)} ${plain.toFixed(0).padStart(6)} ${full.toFixed(0).padStart(14)} ${(full / plain).toFixed(2).padStart(7)}`,
  );
}
for (const end of ending.reverse()) await end();

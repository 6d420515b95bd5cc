import { spawn, spawnSync } from 'node:child_process';
import { mkdirSync, readFileSync, writeFileSync } from 'node:fs';
import { join } from 'node:path';
import type { TestContext } from 'node:test';
import type { TsigKey } from '../../src/core/dns/message/tsig.js';
import { type DnsName, hostOf } from '../../src/core/dns/records/name.js';
import type { DnsServer } from '../../src/ends/dns/server.js';
import { folder } from '../help/program.js';
import { freePort, listens, until } from './database.js';

/** A zone that a real server has. */
export interface ServedZone {
  readonly apex: DnsName;
  readonly text: string;
  /** The server signs it itself. */
  readonly signed?: boolean;
  /** It is a copy of the zone at another server, which is asked for it at most every so many seconds. */
  readonly copyOf?: { readonly server: DnsServer; readonly key: TsigKey };
}

/** A real DNS server on this machine. */
export interface RealDnsServer extends DnsServer {
  /** A zone's file as the server has it. */
  text(apex: DnsName): string;
  stop(): Promise<void>;
}

export const dnsServers = ['named', 'knotd'] as const;

/** Starts BIND or Knot, with zones that may be transferred and updated with some keys. */
export async function startDnsServer(
  t: TestContext,
  program: (typeof dnsServers)[number],
  zones: readonly ServedZone[],
  keys: readonly TsigKey[],
  { host = '127.0.0.1', port: wanted }: { host?: string; port?: number } = {},
): Promise<RealDnsServer> {
  const root = folder(t);
  const port = wanted ?? (await freePort());
  const fileOf = (apex: DnsName) => join(root, `${hostOf(apex)}.zone`);
  for (const { apex, text, copyOf } of zones) if (!copyOf) writeFileSync(fileOf(apex), text, 'latin1');
  const file = join(root, 'server.conf');
  const write = program === 'named' ? namedConfiguration : knotConfiguration;
  writeFileSync(file, write({ root, host, port, zones, keys, fileOf }));
  const [command, ...args] =
    program === 'named' ? ['named', '-g', '-n', '1', '-c', file] : ['knotd', '-c', file];
  const server = spawn(command!, args, { stdio: ['ignore', 'pipe', 'pipe'], cwd: root });
  let said = '';
  for (const stream of [server.stdout, server.stderr]) {
    stream.on('data', chunk => {
      said = (said + chunk).slice(-3000);
    });
  }
  const gone = new Promise<void>(resolve => server.once('exit', () => resolve()));
  const stop = async () => {
    server.kill('SIGTERM');
    await gone;
  };
  t.after(stop);
  await until(command!, () => {
    if (server.exitCode !== null) throw new Error(`${command} ended at once: ${said}`);
    return listens(port, host);
  });
  return { host, port, stop, text: apex => readFileSync(fileOf(apex), 'latin1') };
}

interface Terms {
  readonly root: string;
  readonly host: string;
  readonly port: number;
  readonly zones: readonly ServedZone[];
  readonly keys: readonly TsigKey[];
  fileOf(apex: DnsName): string;
}

function namedConfiguration({ root, host, port, zones, keys, fileOf }: Terms): string {
  const quoted = (key: TsigKey) => `"${hostOf(key.name)}"`;
  const all = keysOf(zones, keys);
  return `options { directory "${root}"; pid-file none; session-keyfile none; lock-file none; listen-on port ${port} { ${host}; };
listen-on-v6 { none; }; recursion no; notify no; dnssec-validation no; minimal-responses no-auth;
allow-transfer { ${keys.map(key => `key ${quoted(key)};`).join(' ')} }; };
controls { };
${all.map(key => `key ${quoted(key)} { algorithm ${key.algorithm}; secret "${key.secret.toString('base64')}"; };`).join('\n')}
${zones
  .map(({ apex, copyOf, signed }) => {
    const head = `zone "${hostOf(apex)}" { file "${fileOf(apex)}";`;
    if (copyOf) {
      const { server, key } = copyOf;
      return `${head} type secondary; primaries { ${server.host} port ${server.port} key ${quoted(key)}; }; };`;
    }
    const grants = keys.map(key => `grant ${quoted(key)} zonesub ANY;`).join(' ');
    const policy = signed ? 'dnssec-policy default; inline-signing yes;' : '';
    return `${head} type primary; ${policy} ${grants ? `update-policy { ${grants} };` : ''} };`;
  })
  .join('\n')}
`;
}

function knotConfiguration({ root, host, port, zones, keys, fileOf }: Terms): string {
  mkdirSync(join(root, 'run'), { recursive: true });
  const all = keysOf(zones, keys);
  const remotes = zones.flatMap(({ copyOf }, i) =>
    copyOf
      ? [
          `  - id: from${i}\n    address: ${copyOf.server.host}@${copyOf.server.port}\n    key: ${copyOf.key.name}`,
        ]
      : [],
  );
  const section = (name: string, lines: readonly string[]) =>
    lines.length > 0 ? `${name}:\n${lines.join('\n')}\n` : '';
  return `server:
    rundir: "${root}/run"
    listen: ${host}@${port}
database:
    storage: "${root}/run"
${section(
  'key',
  all.map(
    key =>
      `  - id: ${key.name}\n    algorithm: ${key.algorithm}\n    secret: ${key.secret.toString('base64')}`,
  ),
)}${section('remote', remotes)}${section(
  'acl',
  keys.map((key, i) => `  - id: acl${i}\n    key: ${key.name}\n    action: [transfer, update]`),
)}zone:
${zones
  .map(({ apex, signed, copyOf }, i) => {
    const acl = keys.length > 0 ? `\n    acl: [${keys.map((_, n) => `acl${n}`)}]` : '';
    return `  - domain: ${apex}\n    file: "${fileOf(apex)}"${acl}${signed ? '\n    dnssec-signing: on' : ''}${copyOf ? `\n    master: from${i}` : ''}`;
  })
  .join('\n')}
`;
}

/** Starts a recursive resolver with a cache, Unbound, that begins at a root server of ours. */
export async function startResolver(t: TestContext, rootServer: string): Promise<DnsServer> {
  const root = folder(t);
  const port = await freePort();
  writeFileSync(join(root, 'hints'), `. 3600 NS a.root.example.\na.root.example. 3600 A ${rootServer}\n`);
  writeFileSync(
    join(root, 'unbound.conf'),
    `server:
  interface: 127.0.0.1@${port}
  access-control: 127.0.0.0/8 allow
  do-not-query-localhost: no
  do-ip6: no
  root-hints: "${root}/hints"
  module-config: "iterator"
  local-zone: "example." nodefault
  chroot: ""
  username: ""
  directory: "${root}"
  pidfile: ""
  use-syslog: no
  do-daemonize: no
remote-control:
  control-enable: no
`,
  );
  const server = spawn('unbound', ['-d', '-c', join(root, 'unbound.conf')], { stdio: 'ignore' });
  const gone = new Promise<void>(resolve => server.once('exit', () => resolve()));
  t.after(async () => {
    server.kill('SIGTERM');
    await gone;
  });
  await until('unbound', () => {
    if (server.exitCode !== null) throw new Error('unbound ended at once');
    return listens(port);
  });
  return { host: '127.0.0.1', port };
}

/** Each key once: those of the server, and those with which it asks others. */
function keysOf(zones: readonly ServedZone[], keys: readonly TsigKey[]): TsigKey[] {
  return [...new Set([...keys, ...zones.flatMap(({ copyOf }) => (copyOf ? [copyOf.key] : []))])];
}

/** A zone as BIND's own reader understands its file; the text of what is wrong where it refuses it. */
export function checkedZone(apex: DnsName, file: string): { ok: boolean; text: string } {
  const ran = spawnSync('named-checkzone', ['-i', 'none', '-k', 'ignore', '-q', '-D', hostOf(apex), file], {
    encoding: 'latin1',
    maxBuffer: 1 << 28,
  });
  return { ok: ran.status === 0, text: ran.status === 0 ? ran.stdout : ran.stdout + ran.stderr };
}

import assert from 'node:assert/strict';
import { appendFileSync, mkdirSync, readFileSync, writeFileSync } from 'node:fs';
import { join } from 'node:path';
import { type TestContext, test } from 'node:test';
import pMap from 'p-map';
import type { SFTPWrapper } from 'ssh2';
import {
  asksForFile,
  asksForPassword,
  database,
  endlessly,
  endlessRows,
  ftp,
  ftpListing,
  hostKeyPrint,
  type Liar,
  liar,
  type Script,
  sshLiar,
} from '../help/liars.js';
import { folder, run } from '../help/program.js';

const secret = 'Kingfisher-4417';
/** Milliseconds after which somebody interrupts what waits, and what does not end although it should. */
const untilInterrupted = { waits: 1500, ends: 15_000 };
/** So soon a run ends that was interrupted; two seconds are promised, and the machine may be busy. */
const soon = 3000;

/** How a run against a lying server may end: by itself, or since somebody waited long enough. */
interface Case {
  readonly name: string;
  readonly server: (t: TestContext) => Promise<Liar>;
  readonly sheet: (port: number) => string;
  /** What is to be reported of it. */
  readonly finds?: string | undefined;
  /** Only an interruption ends it within the time of a test. */
  readonly waits?: boolean;
}

const newEnd = 'new: { address: https://new.example, files: ../new/site }';
const overFtp = (port: number) =>
  `old: { address: https://old.example, files: "ftp://porter@127.0.0.1:${port}/site", login: { password: "\${PW}" } }\n${newEnd}`;
const overSftp = (port: number) =>
  `old: { address: https://old.example, files: "sftp://porter@127.0.0.1:${port}/site", login: { password: "\${PW}", host-key: "${hostKeyPrint}" } }\n${newEnd}`;
const overHttp = (port: number) =>
  `old: { address: http://old.example, files: ../old, reach: "http://127.0.0.1:${port}" }\n${newEnd}`;
const overDatabase = (port: number) =>
  `old: { address: https://old.example, files: ../old, database: { server: "mysql://club@127.0.0.1:${port}/club", password: "\${PW}" } }\n${newEnd}`;

const silence: Script = () => {};
const garbage: Script = socket => {
  socket.end(Buffer.from(Array.from({ length: 5000 }, (_, i) => (i * 7919) & 255)));
};
const hangsUp: Script = socket => socket.destroy();
const endlessLine: Script = socket => endlessly(socket, '2'.repeat(1000));

const plain = (script: Script) => (t: TestContext) => liar(t, script);
const listing = (lines: string) => (t: TestContext) => liar(t, ftp(ftpListing(t, data => data.end(lines))));
const unixLine = (name: string, { type = '-', size = '10' } = {}) =>
  `${type}rw-r--r-- 1 porter porter ${size} Jan  1 2025 ${name}\r\n`;

const hostileNames = [
  '..',
  '../up',
  '/etc/passwd',
  'a/b',
  'nul\0l',
  '',
  '.',
  '\x1b[31mred\x1b]0;x\x07',
  ' ~ ',
];
const leadsElsewhere = (name: string) => (name.includes('/') ? 'names-lead-elsewhere' : undefined);
const hostileSizes = ['99999999999999999999', '-5', '1e9', '0x10', 'NaN'];

/** Answers of an SFTP server whose folder holds what `names` gives each time it is asked. */
const sftpFolder =
  (names: (round: number) => string[] | undefined, { size = 10, isEndless = false } = {}) =>
  (sftp: SFTPWrapper) => {
    const rounds: number[] = [];
    const attrs = { mode: 0o100644, uid: 0, gid: 0, size, atime: 0, mtime: 0 };
    const attrsAt = (path: string) =>
      ({ ...attrs, mode: path.endsWith('/site') ? 0o040755 : attrs.mode }) as never;
    const isThere = (path: string) => /\/site(?:\/index\.html)?$/.test(path);
    sftp.on('error', () => {});
    sftp.on('REALPATH', id => sftp.name(id, [{ filename: '/site', longname: '', attrs: attrs as never }]));
    sftp.on('FSTAT', id => sftp.attrs(id, attrs as never));
    for (const look of ['STAT', 'LSTAT'] as const)
      sftp.on(look, (id: number, path: string) =>
        isThere(path) ? sftp.attrs(id, attrsAt(path)) : sftp.status(id, 2),
      );
    sftp.on('OPENDIR', (id, path) => {
      if (!path.endsWith('/site')) return sftp.status(id, 2);
      sftp.handle(id, Buffer.from([rounds.push(0) - 1]));
    });
    sftp.on('READDIR', (id, handle) => {
      const found = names(rounds[handle[0]!]!++);
      if (!found) return sftp.status(id, 1);
      sftp.name(
        id,
        found.map(filename => ({ filename, longname: filename, attrs: attrs as never })),
      );
    });
    sftp.on('OPEN', (id, path) =>
      isThere(path) ? sftp.handle(id, Buffer.from('file')) : sftp.status(id, 2),
    );
    sftp.on('READ', (id, _handle, offset, length) => {
      if (isEndless) sftp.data(id, Buffer.alloc(length, 'x'));
      else if (offset === 0) sftp.data(id, Buffer.alloc(Math.min(size, 10), 'x'));
      else sftp.status(id, 1);
    });
    for (const other of ['CLOSE', 'READLINK', 'MKDIR', 'REMOVE'] as const)
      sftp.on(other, (id: number) => sftp.status(id, other === 'CLOSE' ? 0 : 4));
  };
const once = (names: string[]) => (round: number) => (round === 0 ? names : undefined);

const http = (answer: string) =>
  plain(socket => {
    socket.on('data', () => socket.end(answer));
  });
const httpEndless = (head: string, chunk: string) =>
  plain(socket => {
    socket.once('data', () => {
      socket.write(head);
      endlessly(socket, chunk);
    });
  });

const cases: Case[] = [
  ...[
    { kind: 'ftp', sheet: overFtp },
    { kind: 'sftp', sheet: overSftp },
    { kind: 'http', sheet: overHttp },
    { kind: 'database', sheet: overDatabase },
  ].flatMap(({ kind, sheet }) => [
    { name: `${kind}: silent from the start`, server: plain(silence), sheet, waits: true },
    { name: `${kind}: garbage`, server: plain(garbage), sheet },
    { name: `${kind}: hangs up`, server: plain(hangsUp), sheet },
    { name: `${kind}: one endless line`, server: plain(endlessLine), sheet },
  ]),
  ...['PASS', 'FEAT', 'TYPE', 'PASV', 'LIST'].map(word => ({
    name: `ftp: silent after ${word}`,
    server: (t: TestContext) => liar(t, ftp({ ...ftpListing(t, data => data.end()), [word]: () => {} })),
    sheet: overFtp,
    waits: true,
  })),
  {
    name: 'ftp: a reply of many lines that never ends',
    server: plain(ftp({ FEAT: socket => endlessly(socket, '211-more\r\n') })),
    sheet: overFtp,
  },
  {
    name: 'ftp: a data connection to somebody else',
    server: plain(ftp({ PASV: '227 Entering (192,0,2,1,0,22)' })),
    sheet: overFtp,
  },
  {
    name: 'ftp: a listing that never comes',
    server: t => liar(t, ftp(ftpListing(t, () => {}))),
    sheet: overFtp,
    waits: true,
  },
  {
    name: 'ftp: a listing that never ends',
    server: t => liar(t, ftp(ftpListing(t, data => endlessly(data, unixLine('x'))))),
    sheet: overFtp,
    waits: true,
  },
  {
    name: 'ftp: a listing of one endless line',
    server: t => liar(t, ftp(ftpListing(t, data => endlessly(data, 'x'.repeat(999))))),
    sheet: overFtp,
    waits: true,
  },
  ...hostileNames.map(name => ({
    name: `ftp: the name ${JSON.stringify(name)}`,
    server: listing(unixLine(name) + unixLine('index.html')),
    sheet: overFtp,
    finds: leadsElsewhere(name),
  })),
  ...hostileSizes.map(size => ({
    name: `ftp: the size ${size}`,
    server: listing(unixLine('index.html', { size })),
    sheet: overFtp,
    finds: size === '99999999999999999999' ? 'a size that no file has' : undefined,
  })),
  {
    name: 'ftp: sockets and pipes',
    server: listing(unixLine('socket', { type: 's' }) + unixLine('pipe', { type: 'p' })),
    sheet: overFtp,
  },
  {
    name: 'ftp: a reply that writes on the terminal',
    server: plain(ftp({ PASS: '530 \x1b[2J\x1b]0;owned\x07 no' })),
    sheet: overFtp,
  },
  { name: 'sftp: silent after the login', server: t => sshLiar(t, 'silence'), sheet: overSftp, waits: true },
  { name: 'sftp: offers none', server: t => sshLiar(t, 'refusal'), sheet: overSftp, finds: 'offers no SFTP' },
  {
    name: 'sftp: a listing that never ends',
    server: t =>
      sshLiar(
        t,
        sftpFolder(() => ['x']),
      ),
    sheet: overSftp,
    waits: true,
  },
  {
    name: 'sftp: a listing that never ends, of other names',
    server: t =>
      sshLiar(
        t,
        sftpFolder(i => [`x${i}`]),
      ),
    sheet: overSftp,
    waits: true,
  },
  ...hostileNames.map(name => ({
    name: `sftp: the name ${JSON.stringify(name)}`,
    server: (t: TestContext) => sshLiar(t, sftpFolder(once([name, 'index.html']))),
    sheet: overSftp,
    finds: leadsElsewhere(name),
  })),
  {
    name: 'sftp: a size that cannot be',
    server: t => sshLiar(t, sftpFolder(once(['index.html']), { size: 2 ** 53 })),
    sheet: overSftp,
    finds: 'a size that no file has',
  },
  {
    name: 'sftp: files that never end',
    server: t => sshLiar(t, sftpFolder(once(['index.html']), { isEndless: true })),
    sheet: overSftp,
  },
  {
    name: 'http: an endless head',
    server: httpEndless('HTTP/1.1 200 OK\r\n', 'x-more: y\r\n'),
    sheet: overHttp,
  },
  {
    name: 'http: an endless page',
    server: httpEndless('HTTP/1.1 200 OK\r\n\r\n', '<p>more'),
    sheet: overHttp,
  },
  {
    name: 'http: an endless chunked page',
    server: httpEndless('HTTP/1.1 200 OK\r\ntransfer-encoding: chunked\r\n\r\n', '5\r\n<div>\r\n'),
    sheet: overHttp,
  },
  {
    name: 'http: less than it says',
    server: http('HTTP/1.1 200 OK\r\ncontent-length: 1000\r\n\r\nx'),
    sheet: overHttp,
  },
  {
    name: 'http: a length that cannot be',
    server: http('HTTP/1.1 200 OK\r\ncontent-length: -1\r\n\r\nx'),
    sheet: overHttp,
  },
  {
    name: 'http: led in a circle',
    server: http('HTTP/1.1 302 Found\r\nlocation: /\r\ncontent-length: 0\r\n\r\n'),
    sheet: overHttp,
  },
  {
    name: 'http: led to a file',
    server: http('HTTP/1.1 302 Found\r\nlocation: file:///etc/passwd\r\ncontent-length: 0\r\n\r\n'),
    sheet: overHttp,
  },
  {
    name: 'http: led to nowhere',
    server: http('HTTP/1.1 302 Found\r\nlocation: http://[::\r\ncontent-length: 0\r\n\r\n'),
    sheet: overHttp,
  },
  {
    name: 'http: a head that writes on the terminal',
    server: http('HTTP/1.1 500 \x1b[2J\r\nserver: \x1b]0;owned\x07\r\ncontent-length: 0\r\n\r\n'),
    sheet: overHttp,
  },
  {
    name: 'http: a head, and then silence',
    server: plain(
      socket => void socket.once('data', () => socket.write('HTTP/1.1 200 OK\r\ncontent-length: 9\r\n\r\n')),
    ),
    sheet: overHttp,
    waits: true,
  },
  {
    name: 'database: silent after the login',
    server: plain(database({ login: 'silence' })),
    sheet: overDatabase,
    waits: true,
  },
  {
    name: 'database: silent after a statement',
    server: plain(database({ query: () => {} })),
    sheet: overDatabase,
    waits: true,
  },
  ...(['end', 'destroy'] as const).map(how => ({
    name: `database: hangs up at a statement (${how})`,
    server: plain(database({ query: socket => void socket[how]() })),
    sheet: overDatabase,
    finds: 'the connection was lost',
  })),
  {
    name: 'database: hangs up between rows',
    server: plain(
      database({
        query: (socket, send) => {
          endlessRows(socket, send);
          setTimeout(() => socket.destroy(), 50);
        },
      }),
    ),
    sheet: overDatabase,
    finds: 'the connection was lost',
  },
  {
    name: 'database: asks for a file of this machine',
    server: plain(database({ query: (_socket, send) => send(1, asksForFile) })),
    sheet: overDatabase,
  },
  {
    name: 'database: asks for the password in clear',
    server: plain(database({ login: asksForPassword })),
    sheet: overDatabase,
  },
  {
    name: 'database: rows that never end',
    server: plain(database({ query: endlessRows })),
    sheet: overDatabase,
    waits: true,
  },
];

test('whatever a server does, nothing hangs, nothing of it is obeyed, and nothing secret is sent or shown', {
  timeout: 600_000,
}, async t => {
  const passwd = readFileSync('/etc/passwd', 'utf8').split('\n')[0]!;
  const wrong: string[] = [];
  const tried = async ({ name, server, sheet, finds, waits = false }: Case) => {
    const root = folder(t);
    for (const path of ['old', 'new', 'move']) mkdirSync(join(root, path));
    writeFileSync(join(root, 'old/index.html'), 'x');
    const { port, heard = [], asked } = await server(t);
    writeFileSync(join(root, 'move/move.yaml'), `name: liar\n${sheet(port)}\n`);
    const began = performance.now();
    let interruptedAt: number | undefined;
    const { code, stdout, stderr } = await run(['survey', '--yes', '--json'], {
      cwd: join(root, 'move'),
      env: { PW: secret },
      interruptWhen: () => {
        const since = asked() ?? performance.now();
        if (performance.now() - since < untilInterrupted[waits ? 'waits' : 'ends']) return false;
        interruptedAt = performance.now();
        return true;
      },
    });
    if (process.env.SHOWN) appendFileSync(process.env.SHOWN, `== ${name}: ${code}\n${stderr}\n`);
    const complain = (what: string) =>
      wrong.push(
        `${name}: ${what} (exit code ${code} after ${Math.round(performance.now() - began)} ms)\n${stderr.slice(0, 500)}`,
      );
    const ended = performance.now();
    if (interruptedAt !== undefined && ended - interruptedAt > soon)
      complain(`ended ${Math.round(ended - interruptedAt)} ms after it was interrupted`);
    if (![0, 1, 3, 4, 5, 130].includes(code ?? -1)) complain('an exit code that does not fit');
    if (waits && code !== 130) complain('nothing was waited for');
    const shown = stdout + stderr;
    if (shown.includes(secret)) complain('the password was shown');
    if (/[^\P{Cc}\n\t]/u.test(shown)) complain('control characters were shown');
    if (/\n\s+at /.test(stderr) || /did not foresee/.test(stderr)) complain('an error that was not foreseen');
    if (finds && !shown.includes(finds)) complain(`no ${finds}`);
    const all = Buffer.concat(heard).toString('latin1');
    if (all.includes(passwd)) complain('a file of this machine was sent');
    if (name.startsWith('database') && all.includes(secret)) complain('the password was sent in clear');
  };
  await pMap(cases, tried, { concurrency: 6 });
  assert.ok(wrong.length === 0, wrong.join('\n'));
});

import assert from 'node:assert/strict';
import { test } from 'node:test';
import type { SFTPWrapper } from 'ssh2';
import { asBytes } from '../../src/core/bytes.js';
import { entryLine, staysInside } from '../../src/core/files/entries.js';
import { FtpFiles } from '../../src/ends/files/ftp.js';
import { SftpFiles } from '../../src/ends/files/sftp.js';
import { Client } from '../../src/ends/ftp/client.js';
import { holdLineEnds } from '../../src/ends/ftp/listing-lines.js';
import type { FtpSession } from '../../src/ends/ftp/session.js';
import { authorityOf } from '../../src/ends/ssh/login.js';
import type { SshSession } from '../../src/ends/ssh/session.js';
import { effort } from '../help/effort.js';

const hostile = [
  '.',
  '..',
  '../evil',
  '/etc/passwd',
  'a/b',
  '',
  'nul\0',
  'new\nline',
  '\x1b[2J',
  'plain',
  'x'.repeat(5000),
];
const signal = new AbortController().signal;

async function pathsOf(end: SftpFiles | FtpFiles): Promise<string[]> {
  const paths: string[] = [];
  for await (const entry of end.list(() => false, signal)) {
    // Whatever its time is, it can be noted.
    if (paths.length < 1000) assert.ok(entryLine(entry));
    paths.push(entry.path);
  }
  return paths;
}

test('whatever a server lists, only plain names below the folder are taken', async () => {
  let asked = 0;
  const sftp = {
    opendir: (_: string, done: (error: undefined, handle: Buffer) => void) =>
      done(undefined, Buffer.from('h')),
    readdir: (_: Buffer, done: (error: { code: number } | undefined, list?: unknown) => void) =>
      asked++ === 0
        ? done(
            undefined,
            hostile.map(filename => ({ filename, attrs: { mode: 0o100644, size: 1, mtime: 0 } })),
          )
        : done({ code: 1 }),
    close: () => {},
  } as unknown as SFTPWrapper;
  const names = hostile.filter(name => !name.includes('\0'));
  const withShell = (shell: boolean) =>
    ({
      files: (work: (one: SFTPWrapper) => unknown) => Promise.resolve(work(sftp)),
      has: async () => shell,
      runAsking: async () => ({
        code: 0,
        // Where there is no shell, whatever is run answers with nothing of it.
        out: Buffer.from(
          shell ? `noise\nsh\0${names.map(name => `f 1 644 ${'9'.repeat(30)}.5 ${name}\0\0`).join('')}` : '',
        ),
        err: '',
      }),
    }) as unknown as SshSession;
  const overSftp = await pathsOf(new SftpFiles(withShell(false), 'sftp://u@h/x', '/x'));
  const overShell = await pathsOf(new SftpFiles(withShell(true), 'sftp://u@h/x', '/x'));
  const client = {
    list: async () => hostile.map(name => ({ name, isFile: true, size: 1, rawModifiedAt: '' })),
  };
  const ftp = {
    atOnce: 1,
    do: (work: (one: typeof client) => unknown) => Promise.resolve(work(client)),
  } as unknown as FtpSession;
  const ftpFiles = new FtpFiles(ftp, 'ftp://u@h/x', '/x');
  const overFtp = await pathsOf(ftpFiles);
  for (const paths of [overSftp, overShell, overFtp]) {
    assert.ok(paths.includes('plain') && paths.every(path => staysInside(path)));
    assert.ok(!paths.some(path => /[/\0]/.test(path)));
  }
  // A name that would end a command is listed, so that it is reported, and never sent.
  assert.ok(overFtp.includes('new\nline') && !ftpFiles.takesName(asBytes('new\nline')));
  await assert.rejects(ftpFiles.entry(asBytes('new\nline')), /has a line end in it/);
});

test('a link that is removed while its folder is listed removes nothing else', async () => {
  let asked = 0;
  const attrs = (mode: number) => ({ mode, size: 1, mtime: 0 });
  const sftp = {
    opendir: (_: string, done: (error: undefined, handle: Buffer) => void) =>
      done(undefined, Buffer.from('h')),
    readdir: (_: Buffer, done: (error: { code: number } | undefined, list?: unknown) => void) => {
      const names = [
        ['below', 0o040755],
        ['gone', 0o120777],
        ['page', 0o100644],
      ] as const;
      // The folder, twice since two requests are under way, and then what is in it.
      const turn = asked++;
      if (turn % 2 === 1 || turn > 2) return done({ code: 1 });
      return done(
        undefined,
        names.slice(turn / 2).map(([filename, mode]) => ({ filename, attrs: attrs(mode) })),
      );
    },
    readlink: (_: string, done: (error: object) => void) => done(Object.assign(new Error(), { code: 2 })),
    close: () => {},
  } as unknown as SFTPWrapper;
  const session = {
    files: (work: (one: SFTPWrapper) => unknown) => Promise.resolve(work(sftp)),
    runAsking: async () => ({ code: 1, out: Buffer.alloc(0), err: '' }),
  } as unknown as SshSession;
  const paths = await pathsOf(new SftpFiles(session, 'sftp://u@h/x', '/x'));
  assert.deepEqual(paths, ['below', 'below/page', 'page']);
});

const entries = effort(100_000, 1_000_000);
test(`a folder of ${entries} entries is listed`, async () => {
  const attrs = { mode: 0o100644, size: 1, mtime: 0 };
  let asked = 0;
  const sftp = {
    opendir: (_: string, done: (error: undefined, handle: Buffer) => void) =>
      done(undefined, Buffer.from('h')),
    readdir: (_: Buffer, done: (error: { code: number } | undefined, list?: unknown) => void) =>
      asked < entries
        ? done(
            undefined,
            Array.from({ length: 1000 }, () => ({ filename: `f${asked++}`, attrs })),
          )
        : done({ code: 1 }),
    close: () => {},
  } as unknown as SFTPWrapper;
  const session = {
    files: (work: (one: SFTPWrapper) => unknown) => Promise.resolve(work(sftp)),
    has: async () => false,
    runAsking: async () => {
      throw new Error('Unable to exec');
    },
  } as unknown as SshSession;
  assert.equal((await pathsOf(new SftpFiles(session, 'sftp://u@h/x', '/x'))).length, entries);
  // The output of a command is limited; then folder by folder is asked.
  const withFind = {
    ...session,
    runAsking: async (_: string, { most }: { most: number }) => {
      assert.ok(most < 4e6);
      return { code: -1, out: Buffer.from(`sh\0${'f 1 644 0.5 f\0\0'.repeat(1000)}`), err: '' };
    },
  };
  asked = entries - 5000;
  const found = new SftpFiles(withFind as unknown as SshSession, 'sftp://u@h/x', '/x');
  assert.equal((await pathsOf(found)).length, 5000);
});

test('no path leads a command or a request out of its place', async () => {
  const never = { files: () => assert.fail(), do: () => assert.fail(), once: () => assert.fail() };
  const sftp = new SftpFiles(never as unknown as SshSession, 'sftp://u@h/x', '/x');
  const ftp = new FtpFiles(never as unknown as FtpSession, 'ftp://u@h/x', '/x');
  for (const path of ['../a', 'a/../../b', '/abs', 'a/..'])
    for (const end of [sftp, ftp]) await assert.rejects(end.remove(asBytes(path)), /leads out of it/);
  await assert.rejects(ftp.rename(asBytes('a\r\nDELE b'), asBytes('c')), /line end/);
});

test('an account is read from its address', () => {
  assert.deepEqual(authorityOf('u%40h:p%3Aw@host:2222'), {
    user: 'u@h',
    password: 'p:w',
    host: 'host',
    port: 2222,
  });
  assert.deepEqual(authorityOf('host'), {
    user: undefined,
    password: undefined,
    host: 'host',
    port: undefined,
  });
  assert.equal(authorityOf('u@[2001:db8::1]:22').host, '2001:db8::1');
});

test('a name with a line end is one entry of a listing, in the style of any server', () => {
  const { parseList } = new Client(1);
  for (const entry of [
    (name: string) => `type=file;size=5;modify=20200101000000; ${name}`,
    (name: string) => `-rw-r--r--   1 porter porter        5 Jan  1  2020 ${name}`,
    (name: string) => `01-01-20  10:00AM                  5 ${name}`,
  ]) {
    const names = ['first', 'two\nlines', 'and\nso\non', 'last\none'];
    const listed = parseList(names.map(name => `${entry(name)}\r\n`).join(''));
    assert.deepEqual(
      listed.map(({ name, size }) => [name, size]),
      names.map(name => [name, 5]),
    );
  }
  // A listing of no known style is left to who reads it.
  assert.equal(holdLineEnds('something\nelse'), 'something\nelse');
});

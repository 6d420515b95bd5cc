import { generateKeyPairSync } from 'node:crypto';
import { chmod, type FileHandle, open, utimes } from 'node:fs/promises';
import { connect, type Socket } from 'node:net';
import { posix } from 'node:path';
import ssh, { type Attributes, type Connection, type SFTPWrapper } from 'ssh2';
import { fingerprintOf } from '../../core/ssh/known-hosts.js';
import type { HostEntry, HostFolder } from './host-folder.js';
import { HostServer, type StandinAccount } from './host-server.js';
import type { Misbehaviour } from './misbehaviour.js';
import { runCommand } from './shell.js';

const { STATUS_CODE } = ssh.utils.sftp;

/**
 * An SSH server that simulates that of a host, on a free loopback port: one account with a password, whose file
 * system is a folder of this machine. It speaks SFTP; with a shell it also does what the few commands do that transferring
 * files uses. Nothing is run.
 */
export class StandinSftpServer extends HostServer {
  /** The fingerprint of its key. */
  readonly fingerprint: string;
  private readonly shell: boolean;
  private readonly ssh: InstanceType<typeof ssh.Server>;

  constructor(folder: string, account: StandinAccount, shell: boolean) {
    super(folder, account);
    this.shell = shell;
    // Not with the SSH package's own generator: one in some 300 of its Ed25519 keys is one that it cannot read.
    const { privateKey } = generateKeyPairSync('ec', {
      namedCurve: 'P-256',
      privateKeyEncoding: { type: 'sec1', format: 'pem' },
      publicKeyEncoding: { type: 'spki', format: 'pem' },
    });
    const parsed = ssh.utils.parseKey(privateKey);
    if (parsed instanceof Error) throw parsed;
    this.fingerprint = fingerprintOf([parsed].flat()[0]!.getPublicSSH());
    this.ssh = new ssh.Server({ hostKeys: [privateKey] }, connection => this.welcome(connection));
  }

  protected meet(socket: Socket): void {
    socket.on('data', chunk => this.misbehaviour.passed(chunk.length));
    (this.ssh as unknown as { injectSocket(socket: Socket): void }).injectSocket(socket);
  }

  private welcome(connection: Connection): void {
    connection.on('error', () => {});
    const { user, password, asks } = this.account;
    const way = asks ? 'keyboard-interactive' : 'password';
    connection.on('authentication', context => {
      const answered = (given: string | undefined) => {
        if (context.username === user && given === password) context.accept();
        else context.reject([way]);
      };
      if (context.method !== way) context.reject([way]);
      else if (context.method === 'password') answered(context.password);
      else if (context.method === 'keyboard-interactive')
        context.prompt([{ prompt: 'Password: ', echo: false }], answers => answered(answers[0]));
    });
    // A line to what listens on this machine, as to a host's own database server; to nowhere else.
    connection.on('tcpip', (accept, reject, { destIP, destPort }) => {
      if (!['127.0.0.1', 'localhost'].includes(destIP)) {
        reject();
        return;
      }
      const socket = connect(destPort, '127.0.0.1');
      socket.once('error', reject).once('connect', () => {
        const channel = accept();
        channel.on('error', () => socket.destroy());
        socket.removeAllListeners('error').on('error', () => channel.destroy());
        socket.pipe(channel).pipe(socket);
      });
    });
    connection.on('session', accept => {
      const session = accept();
      session.on('sftp', acceptSftp => new SftpSession(acceptSftp(), this.host, this.misbehaviour));
      session.on('exec', (acceptExec, reject, { command }) => {
        if (!this.shell) {
          reject();
          return;
        }
        const channel = acceptExec();
        channel.on('error', () => {});
        runCommand(command, this.host, this.misbehaviour, channel)
          .then(
            code => channel.exit(code),
            error => {
              channel.stderr.write(`${error.message}\n`);
              channel.exit(1);
            },
          )
          .finally(() => channel.end())
          // Whoever asked may be gone.
          .catch(() => {});
      });
    });
  }
}

/** Answers the requests of one channel (draft-ietf-secsh-filexfer-02). */
class SftpSession {
  private readonly sftp: SFTPWrapper;
  private readonly host: HostFolder;
  private readonly misbehaviour: Misbehaviour;
  private readonly files = new Map<number, FileHandle>();
  private readonly folders = new Map<number, HostEntry[]>();
  private readonly lost = new WeakSet<FileHandle>();
  private next = 0;
  private turn: Promise<unknown> = Promise.resolve();

  constructor(sftp: SFTPWrapper, host: HostFolder, misbehaviour: Misbehaviour) {
    this.sftp = sftp;
    this.host = host;
    this.misbehaviour = misbehaviour;
    sftp.on('error', () => {});
    sftp.on('close', () => {
      for (const file of this.files.values()) file.close().catch(() => {});
    });
    this.answerFiles();
    this.answerFolders();
  }

  private answerFiles(): void {
    const { sftp, host, misbehaviour } = this;
    sftp.on('OPEN', (id, path, flags, attributes) =>
      this.answer(id, async () => {
        const how = ssh.utils.sftp.flagsToString(flags) ?? 'r';
        const file = await open(await host.real(path), how, attributes.mode ?? 0o644);
        if (how !== 'r' && misbehaviour.loses(path)) this.lost.add(file);
        sftp.handle(id, this.handleOf(this.files, file));
      }),
    );
    sftp.on('READ', (id, handle, offset, length) =>
      this.answer(id, async () => {
        const buffer = Buffer.alloc(Math.min(length, 256 * 1024));
        const { bytesRead } = await this.file(handle).read(buffer, 0, buffer.length, offset);
        if (bytesRead === 0) return sftp.status(id, STATUS_CODE.EOF);
        misbehaviour.passed(bytesRead);
        sftp.data(id, buffer.subarray(0, bytesRead));
      }),
    );
    sftp.on('WRITE', (id, handle, offset, data) => {
      const file = this.file(handle);
      // The buffer is used again by whoever gave it.
      const content = Buffer.from(data);
      this.answer(id, async () => {
        misbehaviour.take(content.length);
        if (this.lost.has(file)) return sftp.status(id, STATUS_CODE.OK);
        await file.write(content, 0, content.length, offset);
        sftp.status(id, STATUS_CODE.OK);
      });
    });
    sftp.on('FSTAT', (id, handle) =>
      this.answer(id, async () => {
        const { size, mode, mtime } = await this.file(handle).stat();
        sftp.attrs(id, this.attributes({ name: '', kind: 'file', size, mode, mtime }));
      }),
    );
    sftp.on('FSETSTAT', (id, handle, attributes) =>
      this.answer(id, async () => {
        const file = this.file(handle);
        if (attributes.mode !== undefined) await file.chmod(attributes.mode & 0o7777);
        if (attributes.mtime !== undefined) await file.utimes(attributes.atime, attributes.mtime);
        sftp.status(id, STATUS_CODE.OK);
      }),
    );
    sftp.on('CLOSE', (id, handle) =>
      this.answer(id, async () => {
        const number = handle.readUInt32BE(0);
        await this.files.get(number)?.close();
        this.files.delete(number);
        this.folders.delete(number);
        sftp.status(id, STATUS_CODE.OK);
      }),
    );
  }

  private answerFolders(): void {
    const { sftp, host } = this;
    sftp.on('OPENDIR', (id, path) =>
      this.answer(id, async () => sftp.handle(id, this.handleOf(this.folders, await host.list(path)))),
    );
    sftp.on('READDIR', (id, handle) =>
      this.answer(id, async () => {
        const some = this.folders.get(handle.readUInt32BE(0))?.splice(0, 100) ?? [];
        if (some.length === 0) return sftp.status(id, STATUS_CODE.EOF);
        sftp.name(
          id,
          some.map(entry => ({ filename: entry.name, longname: entry.name, attrs: this.attributes(entry) })),
        );
      }),
    );
    const look = (id: number, path: string) =>
      this.answer(id, async () => sftp.attrs(id, this.attributes(await host.entry(path))));
    sftp.on('LSTAT', look);
    sftp.on('STAT', look);
    sftp.on('READLINK', (id, path) =>
      this.answer(id, async () => {
        const filename = await host.link(path);
        sftp.name(id, [{ filename, longname: filename, attrs: {} as Attributes }]);
      }),
    );
    sftp.on('REALPATH', (id, path) =>
      this.answer(id, async () => {
        const filename = posix.join('/', path);
        sftp.name(id, [{ filename, longname: filename, attrs: {} as Attributes }]);
      }),
    );
    this.does('REMOVE', path => host.removeFile(path));
    this.does('RMDIR', path => host.removeFolder(path));
    this.does('RENAME', (from, to) => host.rename(from, to));
    this.does('SYMLINK', (path, to) => host.makeLink(path, to));
    sftp.on('MKDIR', (id, path, attributes) =>
      this.answer(id, async () => {
        await host.makeFolder(path, attributes.mode);
        sftp.status(id, STATUS_CODE.OK);
      }),
    );
    sftp.on('SETSTAT', (id, path, attributes) =>
      this.answer(id, async () => {
        const real = await host.real(path);
        if (attributes.mode !== undefined) await chmod(real, attributes.mode & 0o7777);
        if (attributes.mtime !== undefined) await utimes(real, attributes.atime, attributes.mtime);
        sftp.status(id, STATUS_CODE.OK);
      }),
    );
  }

  private does(
    name: 'REMOVE' | 'RMDIR' | 'RENAME' | 'SYMLINK',
    work: (first: string, second: string) => Promise<void>,
  ): void {
    this.sftp.on(name as 'RENAME', (id, first, second) =>
      this.answer(id, async () => {
        await work(first, second);
        this.sftp.status(id, STATUS_CODE.OK);
      }),
    );
  }

  private answer(id: number, work: () => Promise<unknown> | unknown): void {
    // One after the other, as the common server does it.
    this.turn = this.turn
      .then(() => this.misbehaviour.wait())
      .then(work)
      .catch(error => {
        const code = codes[error.code as string] ?? STATUS_CODE.FAILURE;
        this.sftp.status(id, code as number, String(error.message));
      })
      // Whoever asked may be gone.
      .catch(() => {});
  }

  private attributes(entry: HostEntry): Attributes {
    const seconds = Math.floor(entry.mtime.getTime() / 1000);
    const size = entry.size + this.misbehaviour.sizeLie;
    return { mode: entry.mode, uid: 0, gid: 0, size, atime: seconds, mtime: seconds };
  }

  private file(handle: Buffer): FileHandle {
    const file = this.files.get(handle.readUInt32BE(0));
    if (!file) throw new Error('no such handle');
    return file;
  }

  private handleOf<T>(kind: Map<number, T>, thing: T): Buffer {
    const number = this.next++;
    kind.set(number, thing);
    const handle = Buffer.alloc(4);
    handle.writeUInt32BE(number);
    return handle;
  }
}

const codes: Readonly<Record<string, number>> = {
  ENOENT: STATUS_CODE.NO_SUCH_FILE,
  ENOTDIR: STATUS_CODE.NO_SUCH_FILE,
  EACCES: STATUS_CODE.PERMISSION_DENIED,
  EPERM: STATUS_CODE.PERMISSION_DENIED,
};

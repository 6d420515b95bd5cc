import { createHash, generateKeyPairSync } from 'node:crypto';
import { type AddressInfo, createServer, type Socket } from 'node:net';
import type { TestContext } from 'node:test';
import ssh2, { type SFTPWrapper } from 'ssh2';

/** What a server does with a connection; it notes there what it was sent. */
export type Script = (socket: Socket, heard: Buffer[]) => void;

/** A server that lies. */
export interface Liar {
  readonly port: number;
  /** All that it was sent, where that can be read. */
  readonly heard?: readonly Buffer[];
  /** When somebody first connected, by this process' clock. */
  asked(): number | undefined;
}

/** A server that does as a script says. */
export async function liar(t: TestContext, script: Script): Promise<Liar> {
  const heard: Buffer[] = [];
  let asked: number | undefined;
  const sockets = new Set<Socket>();
  const server = createServer(socket => {
    asked ??= performance.now();
    sockets.add(socket);
    socket.on('error', () => {});
    socket.on('close', () => sockets.delete(socket));
    socket.on('data', chunk => heard.push(chunk));
    script(socket, heard);
  });
  await new Promise<void>(resolve => server.listen(0, '127.0.0.1', resolve));
  t.after(() => {
    for (const socket of sockets) socket.destroy();
    server.close();
  });
  return { port: (server.address() as AddressInfo).port, heard, asked: () => asked };
}

/** Sends the same again and again, nearly as fast as it is taken: the test itself must not starve. */
export function endlessly(socket: Socket, chunk: string | Buffer): void {
  const block = Buffer.concat(Array.from({ length: 64 }, () => Buffer.from(chunk)));
  const more = () => {
    if (socket.destroyed) return;
    if (socket.write(block)) setTimeout(more, 1);
    else socket.once('drain', () => setTimeout(more, 1));
  };
  more();
}

/** One answer a line, by the first word of a command; nothing where there is none. */
export function ftp(answers: Readonly<Record<string, string | ((socket: Socket) => void)>>): Script {
  const usual: Record<string, string> = {
    USER: '331 And the password?',
    PASS: '230 In',
    SYST: '215 UNIX Type: L8',
    FEAT: '211 None',
    TYPE: '200 Set',
    CWD: '250 There',
    PWD: '257 "/"',
    SIZE: '213 10',
    QUIT: '221 Farewell',
    OPTS: '200 Set',
    EPSV: '500 Not known',
  };
  return socket => {
    const greeting = answers.greeting ?? '220 Here';
    if (typeof greeting === 'string') socket.write(`${greeting}\r\n`);
    else return greeting(socket);
    let rest = '';
    socket.on('data', chunk => {
      const lines = (rest + chunk.toString('latin1')).split('\r\n');
      rest = lines.pop()!;
      for (const line of lines) {
        const word = line.split(' ')[0]!.toUpperCase();
        const answer = answers[word] ?? usual[word] ?? '500 Not known';
        if (typeof answer === 'function') answer(socket);
        else if (answer !== '') socket.write(`${answer}\r\n`);
      }
    });
  };
}

/** A listing over a data connection of its own, which `serve` fills. */
export function ftpListing(
  t: TestContext,
  serve: (data: Socket) => void,
): Readonly<Record<string, (socket: Socket) => void>> {
  const arrived = new WeakMap<Socket, Promise<Socket>>();
  const open = (socket: Socket) => {
    const data = createServer();
    t.after(() => data.close());
    const connected = new Promise<Socket>(resolve =>
      data.once('connection', one => {
        one.on('error', () => {});
        t.after(() => one.destroy());
        resolve(one);
      }),
    );
    arrived.set(socket, connected);
    data.listen(0, '127.0.0.1', () => {
      const { port } = data.address() as AddressInfo;
      socket.write(`227 Entering (127,0,0,1,${port >> 8},${port & 255})\r\n`);
    });
  };
  const transfer = (socket: Socket) => {
    socket.write('150 It comes\r\n');
    arrived.get(socket)?.then(data => {
      data.resume();
      data.on('close', () => socket.destroyed || socket.write('226 Complete\r\n'));
      serve(data);
    });
  };
  return { PASV: open, LIST: transfer, MLSD: transfer, RETR: transfer };
}

type SftpAnswers = (sftp: SFTPWrapper) => void;
const hostKey = generateKeyPairSync('rsa', {
  modulusLength: 2048,
  privateKeyEncoding: { type: 'pkcs1', format: 'pem' },
  publicKeyEncoding: { type: 'pkcs1', format: 'pem' },
}).privateKey;

const parsed = ssh2.utils.parseKey(hostKey);
if (parsed instanceof Error) throw parsed;
/** Of that server, as a sheet accepts it. */
export const hostKeyPrint = `SHA256:${createHash('sha256').update(parsed.getPublicSSH()).digest('base64').replace(/=+$/, '')}`;

/** An SSH server that lets everybody in, and answers requests for files as it likes: it may stay silent, or refuse them. */
export async function sshLiar(t: TestContext, answers: SftpAnswers | 'silence' | 'refusal'): Promise<Liar> {
  let asked: number | undefined;
  const sockets = new Set<{ end(): void }>();
  const server = new ssh2.Server({ hostKeys: [hostKey] }, client => {
    asked ??= performance.now();
    sockets.add(client);
    client.on('error', () => {});
    client.on('authentication', context => context.accept());
    client.on('ready', () => {
      client.on('session', accept => {
        const session = accept();
        // A request that nobody takes is refused by the package.
        if (answers === 'silence') session.on('exec', () => {}).on('sftp', () => {});
        if (typeof answers === 'string') return;
        session.on('exec', (_accept, reject) => reject?.());
        session.on('sftp', acceptSftp => answers(acceptSftp()));
      });
    });
  });
  const port = await new Promise<number>(resolve =>
    server.listen(0, '127.0.0.1', () => resolve((server.address() as AddressInfo).port)),
  );
  t.after(() => {
    for (const client of sockets) client.end();
    server.close();
  });
  return { port, asked: () => asked };
}

/** A packet of the database's protocol. */
function packet(number: number, body: Buffer): Buffer {
  const head = Buffer.alloc(4);
  head.writeUIntLE(body.length, 0, 3);
  head[3] = number;
  return Buffer.concat([head, body]);
}

const okPacket = Buffer.from([0, 0, 0, 2, 0, 0, 0]);
const greetingPacket = Buffer.concat([
  Buffer.from([10]),
  Buffer.from('8.0.36\0'),
  Buffer.from([1, 0, 0, 0]),
  Buffer.from('12345678\0'),
  // What it can do: nearly everything, local files included, without TLS.
  Buffer.from([0xff, 0xf7, 45, 2, 0, 0xff, 0xdf, 21]),
  Buffer.alloc(10),
  Buffer.from('123456789012\0'),
  Buffer.from('mysql_native_password\0'),
]);

/** A database server: what it answers to the login, and to each statement. */
export function database({
  login = okPacket,
  query,
}: {
  readonly login?: Buffer | 'silence';
  readonly query?: (socket: Socket, send: (number: number, body: Buffer) => void, sql: string) => void;
}): Script {
  return socket => {
    const send = (number: number, body: Buffer) => {
      socket.write(packet(number, body));
    };
    send(0, greetingPacket);
    let isIn = false;
    socket.on('data', chunk => {
      if (isIn) return query?.(socket, send, chunk.subarray(5).toString('latin1'));
      if (login === 'silence') return;
      send(chunk[3]! + 1, login);
      isIn = login === okPacket;
    });
  };
}

/** Asks the client for a file of its machine, as a server may where the client lets it. */
export const asksForFile = Buffer.concat([Buffer.from([0xfb]), Buffer.from('/etc/passwd')]);
/** Asks for the password in clear. */
export const asksForPassword = Buffer.concat([Buffer.from([0xfe]), Buffer.from('mysql_clear_password\0')]);

const text = (of: string) => Buffer.concat([Buffer.from([of.length]), Buffer.from(of)]);

/** Begins a result of one column, whose rows never end. */
export function endlessRows(socket: Socket, send: (number: number, body: Buffer) => void): void {
  send(1, Buffer.from([1]));
  const column = Buffer.concat([
    ...['def', '', '', '', 'a', 'a'].map(text),
    Buffer.from([12, 45, 0, 255, 0, 0, 0, 253, 0, 0, 0, 0, 0]),
  ]);
  send(2, column);
  send(3, Buffer.from([0xfe, 0, 0, 2, 0]));
  const rows = Buffer.concat(
    Array.from({ length: 256 }, (_, i) => packet((i + 4) & 255, text('x'.repeat(200)))),
  );
  endlessly(socket, rows);
}

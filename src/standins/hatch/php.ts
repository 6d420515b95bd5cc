import { type ChildProcess, spawn } from 'node:child_process';
import { request } from 'node:http';
import { createServer } from 'node:net';
import type { HatchReply } from './hatch.js';

/** So long PHP may take to begin, in milliseconds. */
const patience = 5000;

/** Lets a real PHP of this machine run the hatches that are put into a web root: its own web server, on a free loopback port. */
export class PhpHatches {
  private readonly program: ChildProcess;
  private readonly port: number;

  private constructor(program: ChildProcess, port: number) {
    this.program = program;
    this.port = port;
  }

  /** @throws Error where this machine has no PHP, or it does not begin to listen */
  static async start(htdocs: string): Promise<PhpHatches> {
    const port = await freePort();
    const program = spawn('php', ['-S', `127.0.0.1:${port}`, '-t', htdocs], {
      stdio: 'ignore',
    });
    let failure: Error | undefined;
    program.once('error', error => {
      failure = error;
    });
    const hatches = new PhpHatches(program, port);
    for (const end = Date.now() + patience; ; ) {
      await new Promise(resolve => setTimeout(resolve, 50));
      if (failure) throw failure;
      const answered = await hatches.answer('', Buffer.alloc(0)).then(
        () => true,
        () => false,
      );
      if (answered) return hatches;
      if (Date.now() > end) throw new Error('php does not listen');
    }
  }

  async answer(name: string, body: Buffer): Promise<HatchReply | undefined> {
    const path = name === '' ? '/' : `/${name}.php`;
    return new Promise((resolve, reject) => {
      const method = body.length > 0 ? 'POST' : 'GET';
      const asked = request({ host: '127.0.0.1', port: this.port, path, method }, response => {
        const chunks: Buffer[] = [];
        response.on('data', chunk => chunks.push(chunk));
        response.once('error', reject);
        response.once('end', () =>
          resolve({
            status: response.statusCode ?? 500,
            type: response.headers['content-type'] ?? 'text/html',
            body: Buffer.concat(chunks),
          }),
        );
      });
      asked.once('error', reject);
      asked.setHeader('content-type', 'application/octet-stream');
      asked.setHeader('content-length', body.length);
      asked.end(body);
    });
  }

  async close(): Promise<void> {
    const ended = new Promise(resolve => this.program.once('exit', resolve));
    this.program.kill();
    await ended;
  }
}

async function freePort(): Promise<number> {
  const server = createServer();
  await new Promise<void>(resolve => server.listen(0, '127.0.0.1', resolve));
  const { port } = server.address() as { port: number };
  await new Promise(resolve => server.close(resolve));
  return port;
}

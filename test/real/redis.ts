import { type ChildProcess, spawn } from 'node:child_process';
import { once } from 'node:events';
import { mkdirSync } from 'node:fs';
import { join } from 'node:path';
import type { TestContext } from 'node:test';
import { Redis } from 'ioredis';
import { freePort, listens, until } from './database.js';

/** A Redis server of the test's own, on a free port, that keeps what it knows on the disk. */
export class OwnRedis {
  readonly url: string;
  private readonly port: number;
  private readonly folder: string;
  private server: ChildProcess | undefined;

  private constructor(port: number, folder: string) {
    this.port = port;
    this.folder = folder;
    this.url = `redis://127.0.0.1:${port}`;
  }

  static async start(t: TestContext, root: string): Promise<OwnRedis> {
    const folder = join(root, 'redis');
    mkdirSync(folder);
    const redis = new OwnRedis(await freePort(), folder);
    t.after(() => redis.kill());
    await redis.start();
    return redis;
  }

  async start(): Promise<void> {
    const options = ['--port', String(this.port), '--bind', '127.0.0.1', '--dir', this.folder];
    this.server = spawn('redis-server', [...options, '--appendonly', 'yes', '--save', ''], {
      stdio: 'ignore',
    });
    await until('the Redis server', () => listens(this.port));
  }

  async kill(): Promise<void> {
    const { server } = this;
    if (!server) return;
    const gone = once(server, 'exit');
    this.server = undefined;
    server.kill('SIGKILL');
    await gone;
  }

  /** Everything that it holds, as text. */
  async all(): Promise<string> {
    const redis = new Redis(this.url);
    try {
      const said: string[] = [];
      for (const key of await redis.keys('*')) {
        const type = await redis.type(key);
        const held =
          type === 'hash'
            ? await redis.hgetall(key)
            : type === 'zset'
              ? await redis.zrange(key, '0', '-1')
              : type === 'stream'
                ? await redis.xrange(key, '-', '+')
                : type === 'list'
                  ? await redis.lrange(key, 0, -1)
                  : await redis.get(key);
        said.push(`${key} ${JSON.stringify(held)}`);
      }
      return said.join('\n');
    } finally {
      redis.disconnect();
    }
  }
}

import { spawn } from 'node:child_process';
import { once } from 'node:events';
import { mkdirSync } from 'node:fs';
import { join } from 'node:path';
import type { TestContext } from 'node:test';
import { fileURLToPath } from 'node:url';
import { CreateBucketCommand, S3Client } from '@aws-sdk/client-s3';
import { freePort, listens, until } from './database.js';

export const account = { accessKeyId: 'porter:porter', secretAccessKey: 'tides' };

/** A real service that speaks S3 (OpenStack Swift with memcached), with one bucket; gives its URL. */
export async function realS3(t: TestContext, root: string, bucket: string): Promise<string> {
  const folder = join(root, 'swift');
  mkdirSync(folder);
  const [port, cachePort] = [await freePort(), await freePort()];
  const user = process.getuid?.() === 0 ? ['-u', 'nobody'] : [];
  const cache = spawn('memcached', [...user, '-l', '127.0.0.1', '-p', String(cachePort)], {
    stdio: 'ignore',
  });
  const script = fileURLToPath(new URL('s3_service.py', import.meta.url));
  const [name] = account.accessKeyId.split(':');
  const args = [script, folder, String(port), String(cachePort), name!, account.secretAccessKey];
  const service = spawn('/usr/bin/python3', args, { stdio: ['ignore', 'ignore', 'inherit'] });
  const gone = [cache, service].map(child => once(child, 'exit'));
  t.after(async () => {
    for (const child of [cache, service]) child.kill('SIGKILL');
    await Promise.all(gone);
  });
  await until('the S3 service', async () => (await listens(cachePort)) && (await listens(port)));
  const endpoint = `http://127.0.0.1:${port}`;
  process.env.AWS_SDK_JS_NODE_VERSION_SUPPORT_WARNING_DISABLED = 'true';
  const client = new S3Client({
    endpoint,
    region: 'here',
    forcePathStyle: true,
    requestChecksumCalculation: 'WHEN_REQUIRED',
    credentials: account,
  });
  await client.send(new CreateBucketCommand({ Bucket: bucket }));
  client.destroy();
  return endpoint;
}

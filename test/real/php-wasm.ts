import { existsSync } from 'node:fs';
import { createServer } from 'node:http';
import { createRequire } from 'node:module';
import type { AddressInfo } from 'node:net';
import { join } from 'node:path';
import type { TestContext } from 'node:test';
import { pathToFileURL } from 'node:url';

/** What is used of the package that runs PHP as WebAssembly; it is no dependency, a script puts it aside. */
interface PhpAside {
  loadNodeRuntime(version: string, options: object): Promise<number>;
  useHostFilesystem(php: object): void;
}
interface Php {
  run(request: object): Promise<{
    readonly httpStatusCode: number;
    readonly headers: Readonly<Record<string, string[]>>;
    readonly bytes: Uint8Array;
  }>;
  exit(): void;
}

/** The folder in which that package is installed; undefined where nobody put it there. */
export const phpAside = process.env.ABLE_PORTER_PHP_WASM;

/** Serves a folder with a version of PHP, one request after the other, as a host with one worker does. @returns the port */
export async function servePhp(t: TestContext, version: string, htdocs: string): Promise<number> {
  const resolve = createRequire(join(phpAside!, 'x.js')).resolve;
  const load = (name: string) => import(pathToFileURL(resolve(name)).href);
  const { loadNodeRuntime, useHostFilesystem } = (await load('@php-wasm/node')) as PhpAside;
  const { PHP } = (await load('@php-wasm/universal')) as { PHP: new (id: number) => Php };
  const start = async () => {
    const php = new PHP(await loadNodeRuntime(version, { emscriptenOptions: { processId: 1 } }));
    useHostFilesystem(php);
    return php;
  };
  let php = await start();
  let last: Promise<unknown> = Promise.resolve();
  const server = createServer((request, response) => {
    const chunks: Buffer[] = [];
    request.on('data', chunk => chunks.push(chunk));
    request.on('end', () => {
      last = last.then(async () => {
        const path = join(htdocs, new URL(request.url!, 'http://x').pathname);
        if (!existsSync(path))
          return response.writeHead(404, { 'content-type': 'text/plain' }).end('nothing here');
        try {
          const { httpStatusCode, headers, bytes } = await php.run({
            scriptPath: path,
            relativeUri: request.url,
            method: request.method,
            headers: request.headers,
            body: new Uint8Array(Buffer.concat(chunks)),
          });
          return response.writeHead(httpStatusCode, headers).end(Buffer.from(bytes));
        } catch (error) {
          php = await start();
          return response.writeHead(500).end(String(error));
        }
      });
    });
  });
  await new Promise<void>(done => server.listen(0, '127.0.0.1', done));
  t.after(() => {
    server.closeAllConnections();
    server.close();
    php.exit();
  });
  return (server.address() as AddressInfo).port;
}

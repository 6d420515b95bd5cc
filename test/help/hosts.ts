import { mkdirSync, writeFileSync } from 'node:fs';
import { join } from 'node:path';
import type { TestContext } from 'node:test';
import { StandinFtpServer } from '../../src/standins/hosting/ftp-server.js';
import type { Misbehaviour } from '../../src/standins/hosting/misbehaviour.js';
import { StandinSftpServer } from '../../src/standins/hosting/sftp-server.js';
import { openMove } from '../../src/steps/move/open.js';
import { unlimitedRate } from '../../src/steps/move/rate-limit.js';
import type { StepRun } from '../../src/steps/move/step.js';

export const kinds = ['sftp with a shell', 'sftp', 'ftp', 'ftp of old'] as const;
export type Kind = (typeof kinds)[number];

export interface Host {
  readonly address: string;
  readonly login: string;
  readonly misbehaviour: Misbehaviour;
}

const account = { user: 'porter', password: "p'w %é" };

/** A stand-in host whose file system is a folder. */
export async function standinHost(t: TestContext, folder: string, kind: Kind): Promise<Host> {
  mkdirSync(folder, { recursive: true });
  const sftp = kind.startsWith('sftp');
  const server = sftp
    ? new StandinSftpServer(folder, account, kind === 'sftp with a shell')
    : new StandinFtpServer(folder, account, kind === 'ftp' ? 'modern' : 'old');
  const port = await server.listen();
  t.after(() => server.close());
  const key = server instanceof StandinSftpServer ? `, host-key: "${server.fingerprint}"` : '';
  return {
    address: `${sftp ? 'sftp' : 'ftp'}://${account.user}@127.0.0.1:${port}`,
    login: `{ password: "\${PW}"${key} }`,
    misbehaviour: server.misbehaviour,
  };
}

/** A move between two places, to be run in this process; what is waited for is kept in `waited`. */
export async function moveBetween(
  t: TestContext,
  root: string,
  old: { files: string; login?: string },
  next: { files: string; login?: string },
  more = '',
): Promise<{ run: StepRun; waited: string[]; folder: string }> {
  const folder = join(root, 'move');
  mkdirSync(folder, { recursive: true });
  const end = ({ files, login }: { files: string; login?: string }) =>
    `files: "${files}"${login ? `, login: ${login}` : ''}`;
  writeFileSync(
    join(folder, 'move.yaml'),
    `name: tree\nold: { address: https://a.example, ${end(old)} }\nnew: { address: https://b.example, ${end(next)} }\n${more}`,
  );
  const move = await openMove(join(folder, 'move.yaml'), { PW: account.password });
  const waited: string[] = [];
  move.accounts.onWaiting(text => waited.push(text));
  t.after(() => move.accounts.close());
  return {
    run: { move, events: () => {}, signal: new AbortController().signal, rate: unlimitedRate },
    waited,
    folder,
  };
}

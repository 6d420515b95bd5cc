import { execFileSync, spawn } from 'node:child_process';
import { chmodSync, copyFileSync, mkdirSync, readFileSync, writeFileSync } from 'node:fs';
import { userInfo } from 'node:os';
import { join } from 'node:path';
import type { TestContext } from 'node:test';
import { freePort, listens, until } from './database.js';

/** An OpenSSH server of the test's own, on a free port, for the account that runs the test. */
export interface OwnSsh {
  readonly port: number;
  readonly user: string;
  /** A private key that the server lets in. */
  readonly key: string;
  /** The fingerprint of the server's key. */
  readonly fingerprint: string;
  /** Its public key. */
  readonly publicKey: string;
  stop(): Promise<void>;
  start(): Promise<void>;
}

/**
 * @param restricted whether the account is kept to SFTP, without a shell
 * @param sessions how many a connection may have at once. The account's start-up files on this machine have no part in it.
 */
export async function ownSsh(
  t: TestContext,
  root: string,
  restricted: boolean,
  sessions = 20,
): Promise<OwnSsh> {
  const folder = join(root, `ssh-${restricted}`);
  mkdirSync(folder, { recursive: true, mode: 0o700 });
  const at = (name: string) => join(folder, name);
  for (const name of ['host', 'client'])
    execFileSync('ssh-keygen', ['-q', '-t', 'ed25519', '-N', '', '-f', at(name)]);
  copyFileSync(at('client.pub'), at('authorized'));
  chmodSync(at('authorized'), 0o600);
  const port = await freePort();
  const { username } = userInfo();
  writeFileSync(
    at('config'),
    `Port ${port}
ListenAddress 127.0.0.1
HostKey ${at('host')}
AuthorizedKeysFile ${at('authorized')}
PasswordAuthentication no
StrictModes no
UsePAM no
PidFile ${at('pid')}
MaxSessions ${sessions}
SetEnv HOME=${folder}
Subsystem sftp internal-sftp
${restricted ? 'ForceCommand internal-sftp\n' : ''}`,
  );
  if (process.getuid?.() === 0) mkdirSync('/run/sshd', { recursive: true });
  let server: ReturnType<typeof spawn> | undefined;
  const stop = async () => {
    if (!server) return;
    const gone = new Promise(resolve => server!.once('exit', resolve));
    server.kill('SIGTERM');
    await gone;
    server = undefined;
  };
  const start = async () => {
    server = spawn('/usr/sbin/sshd', ['-D', '-e', '-f', at('config')], { stdio: 'ignore' });
    await until('the SSH server', () => listens(port));
  };
  await start();
  t.after(stop);
  const publicKey = readFileSync(at('host.pub'), 'utf8').trim();
  const [, fingerprint] = execFileSync('ssh-keygen', ['-lf', at('host.pub')])
    .toString()
    .split(' ');
  return { port, user: username, key: at('client'), fingerprint: fingerprint!, publicKey, stop, start };
}

import { execFileSync, spawn } from 'node:child_process';
import { chmodSync, mkdirSync, writeFileSync } from 'node:fs';
import { userInfo } from 'node:os';
import { join } from 'node:path';
import type { TestContext } from 'node:test';
import { freePort, listens, until } from './database.js';

/** A ProFTPD server of the test's own, on a free port. */
export interface OwnFtp {
  readonly port: number;
  readonly user: string;
  readonly password: string;
  /** The certificate's fingerprint, where it speaks TLS. */
  readonly fingerprint: string;
}

/**
 * @param tls whether TLS is required, not spoken, or spoken from the first byte on
 * @param clients how many connections it lets in at once
 * @param setsTimes whether it lets the times of files be set
 */
export async function ownFtp(
  t: TestContext,
  root: string,
  tls: 'none' | 'explicit' | 'implicit',
  { clients = 4, setsTimes = true }: { clients?: number; setsTimes?: boolean } = {},
): Promise<OwnFtp> {
  const folder = join(root, `ftp-${tls}`);
  mkdirSync(folder, { recursive: true, mode: 0o755 });
  const at = (name: string) => join(folder, name);
  const { uid, gid, username } = userInfo();
  const password = "p'w %é";
  const hash = execFileSync('openssl', ['passwd', '-6', '-stdin'], { input: `${password}\n` })
    .toString()
    .trim();
  writeFileSync(at('passwd'), `porter:${hash}:${uid}:${gid}:porter:${root}:/bin/sh\n`);
  chmodSync(at('passwd'), 0o600);
  execFileSync(
    'openssl',
    [
      'req',
      '-x509',
      '-newkey',
      'ec',
      '-pkeyopt',
      'ec_paramgen_curve:prime256v1',
      '-nodes',
      '-keyout',
      at('key.pem'),
      '-out',
      at('cert.pem'),
      '-days',
      '30',
      '-subj',
      '/CN=old.saltmarsh.example',
    ],
    { stdio: 'ignore' },
  );
  chmodSync(at('key.pem'), 0o600);
  const [, hex] = execFileSync('openssl', [
    'x509',
    '-in',
    at('cert.pem'),
    '-noout',
    '-fingerprint',
    '-sha256',
  ])
    .toString()
    .trim()
    .split('=');
  const fingerprint = `SHA256:${Buffer.from(hex!.replaceAll(':', ''), 'hex').toString('base64').replace(/=+$/, '')}`;
  const port = await freePort();
  const modules =
    tls === 'none'
      ? ''
      : `ModulePath /usr/lib/proftpd\nLoadModule mod_tls.c\nTLSEngine on\nTLSRequired on\nTLSRSACertificateFile ${at('cert.pem')}\nTLSRSACertificateKeyFile ${at('key.pem')}\nTLSECCertificateFile ${at('cert.pem')}\nTLSECCertificateKeyFile ${at('key.pem')}\nTLSOptions NoSessionReuseRequired${tls === 'implicit' ? ' UseImplicitSSL' : ''}\n`;
  writeFileSync(
    at('config'),
    `ServerType standalone
ServerName own
DefaultServer on
Port ${port}
DefaultAddress 127.0.0.1
UseIPv6 off
User ${username}
Group ${execFileSync('id', ['-gn']).toString().trim()}
RootLogin on
RequireValidShell off
AuthOrder mod_auth_file.c
AuthUserFile ${at('passwd')}
UseReverseDNS off
WtmpLog off
TransferLog none
SystemLog ${at('log')}
ScoreboardFile ${at('scoreboard')}
PidFile ${at('pid')}
DelayEngine off
ListOptions -a
MaxClientsPerUser ${clients}
AllowOverwrite on
AllowStoreRestart ${tls === 'implicit' ? 'on' : 'off'}
TimeoutLinger 1
${setsTimes ? '' : '<Limit MFMT MFF>\nDenyAll\n</Limit>\n'}${modules.replace(/TLSRSA.*\n/g, '')}`,
  );
  const server = spawn('proftpd', ['-n', '-q', '-c', at('config')], { stdio: 'ignore' });
  t.after(async () => {
    const gone = new Promise(resolve => server.once('exit', resolve));
    server.kill('SIGTERM');
    await gone;
  });
  await until('the FTP server', () => listens(port));
  return { port, user: 'porter', password, fingerprint };
}

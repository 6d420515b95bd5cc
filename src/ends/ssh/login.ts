import { readFileSync } from 'node:fs';
import { homedir, userInfo } from 'node:os';
import { join } from 'node:path';
import SSHConfig from 'ssh-config';

/** How one gets into an account over SSH. */
export interface SshLogin {
  readonly host: string;
  readonly port: number;
  readonly user: string;
  readonly password?: string | undefined;
  /** Paths of private keys, in the order in which they are tried. */
  readonly keys: readonly string[];
  readonly passphrase?: string | undefined;
  /** The host through which it is reached. */
  readonly through?: SshLogin | undefined;
  /** The fingerprint that its key must have, where the sheet gives it. */
  readonly hostKey?: string | undefined;
}

/** What the sheet says besides the place. */
export interface SheetLogin {
  readonly password?: string | undefined;
  readonly key?: string | undefined;
  readonly passphrase?: string | undefined;
  readonly through?: string | undefined;
  readonly 'host-key'?: string | undefined;
}

/**
 * The login for an address such as `user@host:port`, with what the sheet says and what `~/.ssh/config` has for the
 * host; the sheet comes first.
 */
export function loginFor(authority: string, sheet: SheetLogin, depth = 0): SshLogin {
  const { user, password, host: asked, port } = authorityOf(authority);
  const config = configFor(asked);
  const one = (name: string) => [config[name]].flat()[0];
  const proxy = sheet.through ?? one('ProxyJump');
  const first = proxy?.split(',')[0];
  return {
    host: one('HostName')?.replaceAll('%h', asked) ?? asked,
    port: port ?? Number(one('Port') ?? 22),
    user: user ?? one('User') ?? userInfo().username,
    password: sheet.password ?? password,
    keys: sheet.key ? [atHome(sheet.key)] : [config.IdentityFile ?? usualKeys].flat().map(atHome),
    passphrase: sheet.passphrase,
    through: first && first !== 'none' && depth < 3 ? loginFor(first, {}, depth + 1) : undefined,
    hostKey: sheet['host-key'],
  };
}

/** The parts of `user:password@host:port`, each percent-decoded. */
export function authorityOf(authority: string): {
  user: string | undefined;
  password: string | undefined;
  host: string;
  port: number | undefined;
} {
  const [, user, password, bracketed, plain, port] =
    /^(?:([^:@]*)(?::([^@]*))?@)?(?:\[([^\]]+)\]|([^:]+))(?::(\d+))?$/.exec(authority) ?? [];
  const decoded = (text: string | undefined) => (text === undefined ? undefined : decodeURIComponent(text));
  return {
    user: decoded(user) || undefined,
    password: decoded(password),
    host: bracketed ?? plain ?? authority,
    port: port === undefined ? undefined : Number(port),
  };
}

const usualKeys = ['~/.ssh/id_ed25519', '~/.ssh/id_ecdsa', '~/.ssh/id_rsa'];

function atHome(path: string): string {
  return path.replace(/^~(?=\/)/, homedir()).replace(/^%d/, homedir());
}

function configFor(host: string): Record<string, string | string[] | undefined> {
  let text: string;
  try {
    text = readFileSync(join(homedir(), '.ssh/config'), 'utf8');
  } catch {
    return {};
  }
  return SSHConfig.parse(text).compute(host) as Record<string, string | string[] | undefined>;
}

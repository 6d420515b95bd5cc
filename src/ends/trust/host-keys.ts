import { appendFile, readFile } from 'node:fs/promises';
import { homedir } from 'node:os';
import { join } from 'node:path';
import { parseFingerprint } from '../../core/fingerprint.js';
import { fingerprintOf, hostLine, keysOf, lookUpHost } from '../../core/ssh/known-hosts.js';
import type { AskTrust } from './ask-trust.js';

/**
 * Which keys of hosts are known: those of the person's own `known_hosts`, and those that were accepted for this move,
 * which are kept beside the sheet.
 */
export class HostKeys {
  private readonly ownFile: string;
  private readonly ask: AskTrust | undefined;

  /** @param folder of the move; @param ask left out where nobody is there to ask */
  constructor(folder: string, ask?: AskTrust) {
    this.ownFile = join(folder, 'known_hosts');
    this.ask = ask;
  }

  /** Why a key is not accepted, or undefined where it is. */
  async refuses(
    host: string,
    port: number,
    key: Buffer,
    wanted: string | undefined,
  ): Promise<string | undefined> {
    const fingerprint = fingerprintOf(key);
    if (wanted !== undefined)
      return parseFingerprint(wanted) === fingerprint
        ? undefined
        : `its key is ${fingerprint}, the sheet says ${wanted}`;
    const text = await this.text();
    const known = lookUpHost(text, host, port, key);
    if (known === 'known') return undefined;
    if (known === 'revoked') return `its key ${fingerprint} is marked as revoked`;
    // A host whose key of a known kind is not there any more has changed as well: that kind was asked for first.
    const before = keysOf(text, host, port);
    if (known === 'changed' || before.length > 0) {
      const list = before.map(one => `${one.kind} ${one.fingerprint}`).join(' and ');
      return `its key has changed to ${fingerprint}, known is ${list}; somebody may be listening in, or the host was set up again`;
    }
    const shown = port === 22 ? host : `${host}:${port}`;
    if (await this.ask?.({ host: shown, what: 'key', fingerprint })) {
      await appendFile(this.ownFile, `${hostLine(host, port, key)}\n`, { mode: 0o600 });
      return undefined;
    }
    return `its key ${fingerprint} is not known`;
  }

  /** The kinds of keys that are known of a host. */
  async typesOf(host: string, port: number): Promise<string[]> {
    return keysOf(await this.text(), host, port).map(({ kind }) => kind);
  }

  private async text(): Promise<string> {
    const files = [this.ownFile, join(homedir(), '.ssh/known_hosts'), '/etc/ssh/ssh_known_hosts'];
    const texts = await Promise.all(files.map(file => readFile(file, 'utf8').catch(() => '')));
    return texts.join('\n');
  }
}

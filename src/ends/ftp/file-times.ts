import type { Client } from 'basic-ftp';
import { accepts, throwUnlessRefused } from './refusal.js';

/** A command that may set the time of a file. @param time `20261129163000`, UTC */
type SettingTime = (time: string, path: string) => string;

/** ProFTPD and others (draft-somers-ftp-mfxx); vsftpd, where the time comes before the name; ProFTPD with mod_site_misc. */
const commands: readonly SettingTime[] = [
  (time, path) => `MFMT ${time} ${path}`,
  (time, path) => `MDTM ${time} ${path}`,
  (time, path) => `SITE UTIME ${time} ${path}`,
  (time, path) => `SITE UTIME ${path} ${time} ${time} ${time} UTC`,
];

/** Sets the times of files with the first command that a server accepts. If it accepts none, the others are not tried again. */
export class FileTimes {
  private way: SettingTime | 'not tried' | 'none' = 'not tried';

  /** Whether times can be set, as far as is known. */
  get areSet(): boolean {
    return this.way !== 'none';
  }

  /** The command that sets a time; undefined where none is known to be accepted. @param mtime in milliseconds since 1970 */
  commandFor(path: string, mtime: number): string | undefined {
    return this.way === 'none' || this.way === 'not tried' ? undefined : this.way(timeText(mtime), path);
  }

  /** @param path of a file, as it is sent to the server @param mtime in milliseconds since 1970 */
  async set(client: Pick<Client, 'send'>, path: string, mtime: number): Promise<void> {
    if (this.way === 'none') return;
    const time = timeText(mtime);
    if (this.way !== 'not tried') {
      await client.send(this.way(time, path)).catch(throwUnlessRefused);
      return;
    }
    for (const way of commands) {
      if (!(await accepts(client, way(time, path)))) continue;
      // Some say that they did and did not.
      if (!(await hasTime(client, path, time))) continue;
      this.way = way;
      return;
    }
    this.way = 'none';
  }
}

function timeText(mtime: number): string {
  return new Date(mtime).toISOString().replace(/[-:T]|\..*$/g, '');
}

/** Whether a server gives a file this time (RFC 3659, section 3). */
async function hasTime(client: Pick<Client, 'send'>, path: string, time: string): Promise<boolean> {
  try {
    const { message } = await client.send(`MDTM ${path}`);
    return message.includes(time);
  } catch (error) {
    throwUnlessRefused(error);
    return false;
  }
}

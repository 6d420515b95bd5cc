import { lstat, mkdir, readdir, readlink, realpath, rename, rmdir, symlink, unlink } from 'node:fs/promises';
import { dirname, join, posix, sep } from 'node:path';
import type { Misbehaviour } from './misbehaviour.js';

/** What is at a path of a stand-in host. */
export interface HostEntry {
  readonly name: string;
  readonly kind: 'file' | 'folder' | 'link';
  readonly size: number;
  /** With the bits of the kind. */
  readonly mode: number;
  readonly mtime: Date;
}

/** A folder of this machine as the whole file system of a stand-in host. Nothing outside of it can be reached. */
export class HostFolder {
  readonly folder: string;
  private readonly misbehaviour: Misbehaviour;

  constructor(folder: string, misbehaviour: Misbehaviour) {
    this.folder = folder;
    this.misbehaviour = misbehaviour;
  }

  /** The path on this machine of an absolute path at the host. @throws where a link on the way leads out of the folder */
  async real(path: string): Promise<string> {
    const inside = join(this.folder, `.${posix.resolve('/', path)}`).replace(/\/$/, '');
    const [root, above] = await Promise.all([realpath(this.folder), realpath(dirname(inside))]);
    const outside = inside !== this.folder && above !== root && !above.startsWith(root + sep);
    if (outside) throw Object.assign(new Error('permission denied'), { code: 'EACCES' });
    return inside;
  }

  /** The same for what is to be changed there. */
  async toChange(path: string): Promise<string> {
    const refusal = this.misbehaviour.forbids(path);
    if (refusal) throw refusal;
    return this.real(path);
  }

  async entry(path: string): Promise<HostEntry> {
    const stats = await lstat(await this.real(path));
    const kind = stats.isDirectory() ? 'folder' : stats.isSymbolicLink() ? 'link' : 'file';
    return { name: posix.basename(path), kind, size: stats.size, mode: stats.mode, mtime: stats.mtime };
  }

  async list(path: string): Promise<HostEntry[]> {
    const names = (await readdir(await this.real(path))).sort();
    // What is removed meanwhile is not listed.
    const entries = names.map(name => this.entry(posix.join(path, name)).catch(() => undefined));
    return (await Promise.all(entries)).filter(entry => entry !== undefined);
  }

  async link(path: string): Promise<string> {
    return readlink(await this.real(path));
  }

  async makeLink(path: string, to: string): Promise<void> {
    await symlink(to, await this.toChange(path));
  }

  async makeFolder(path: string, mode?: number): Promise<void> {
    await mkdir(await this.toChange(path), mode === undefined ? {} : { mode });
  }

  async removeFile(path: string): Promise<void> {
    await unlink(await this.toChange(path));
  }

  async removeFolder(path: string): Promise<void> {
    await rmdir(await this.toChange(path));
  }

  /** @throws where something is there already */
  async rename(from: string, to: string): Promise<void> {
    const target = await this.toChange(to);
    const there = await lstat(target).catch(() => undefined);
    if (there) throw Object.assign(new Error('file exists'), { code: 'EEXIST' });
    await rename(await this.toChange(from), target);
  }
}

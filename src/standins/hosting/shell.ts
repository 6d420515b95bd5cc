import { createHash } from 'node:crypto';
import { createReadStream, createWriteStream } from 'node:fs';
import { chmod, mkdir, readFile, utimes } from 'node:fs/promises';
import { posix } from 'node:path';
import { pipeline } from 'node:stream/promises';
import type { ServerChannel } from 'ssh2';
import { extract, pack } from 'tar-stream';
import type { HostFolder } from './host-folder.js';
import type { Misbehaviour } from './misbehaviour.js';

/**
 * Does what a shell at a stand-in host would do with the few commands that transferring files uses. None of it is run on
 * this machine.
 * @returns the exit code
 */
export async function runCommand(
  command: string,
  host: HostFolder,
  misbehaviour: Misbehaviour,
  channel: ServerChannel,
): Promise<number> {
  await misbehaviour.wait();
  const [, asks, marks, last] = /^(echo sh(?:; \w+ (?:--)?version)+(?:; |$))?(printf 'sh\\0'; )?(.*)$/s.exec(
    command,
  )!;
  if (asks) channel.write('sh\ntar (GNU tar) 1.34\nsha256sum (GNU coreutils) 9.1\n');
  if (marks) channel.write('sh\0');
  if (last === '') return 0;
  const [, quoted, rest] = /^cd '((?:[^']|'\\'')*)' && (.*)$/s.exec(last!) ?? [];
  if (quoted === undefined || rest === undefined) return notFound(channel, last!);
  const folder = quoted.replaceAll("'\\''", "'");
  if (rest.startsWith('find . ')) return find(host, folder, channel);
  if (rest.startsWith('xargs -0 sha256sum ')) return sums(host, folder, channel);
  if (rest.startsWith('tar -cf - ')) return tarOut(host, folder, misbehaviour, channel);
  if (rest.startsWith('tar -xpf -')) return tarIn(host, folder, misbehaviour, channel);
  return notFound(channel, rest);
}

function notFound(channel: ServerChannel, command: string): number {
  channel.stderr.write(`sh: ${command.split(' ')[0]}: not found\n`);
  return 127;
}

async function find(host: HostFolder, folder: string, channel: ServerChannel): Promise<number> {
  const kinds = { file: 'f', folder: 'd', link: 'l' };
  const walk = async (below: string): Promise<void> => {
    for (const entry of await host.list(posix.join(folder, below))) {
      const path = posix.join(below, entry.name);
      const mode = (entry.mode & 0o7777).toString(8);
      const to = entry.kind === 'link' ? await host.link(posix.join(folder, path)) : '';
      const seconds = entry.mtime.getTime() / 1000;
      channel.write(`${kinds[entry.kind]} ${entry.size} ${mode} ${seconds} ${path}\0${to}\0`);
      if (entry.kind === 'folder') await walk(path);
    }
  };
  await walk('');
  return 0;
}

/** The names that a command is given, each ended by a NUL. */
async function namesFrom(channel: ServerChannel): Promise<string[]> {
  const chunks: Buffer[] = [];
  for await (const chunk of channel as AsyncIterable<Buffer>) chunks.push(chunk);
  return Buffer.concat(chunks).toString().split('\0').filter(Boolean);
}

async function sums(host: HostFolder, folder: string, channel: ServerChannel): Promise<number> {
  let code = 0;
  for (const name of await namesFrom(channel)) {
    try {
      const content = await readFile(await host.real(posix.join(folder, name)));
      channel.write(`${createHash('sha256').update(content).digest('hex')}  ${name}\0`);
    } catch {
      code = 1;
    }
  }
  return code;
}

async function tarOut(
  host: HostFolder,
  folder: string,
  misbehaviour: Misbehaviour,
  channel: ServerChannel,
): Promise<number> {
  const names = await namesFrom(channel);
  const packed = pack();
  const sent = pipeline(packed, channel, { end: false });
  for (const name of names) {
    const path = posix.join(folder, name);
    const { kind, size, mode, mtime } = await host.entry(path);
    if (kind !== 'file') continue;
    const entry = packed.entry({
      name,
      size,
      mode: mode & 0o7777,
      mtime,
    }) as unknown as NodeJS.WritableStream;
    await pipeline(
      createReadStream(await host.real(path)),
      async function* (content: AsyncIterable<Buffer>) {
        for await (const chunk of content) {
          misbehaviour.passed(chunk.length);
          yield chunk;
        }
      },
      entry,
    );
  }
  packed.finalize();
  await sent;
  return 0;
}

async function tarIn(
  host: HostFolder,
  folder: string,
  misbehaviour: Misbehaviour,
  channel: ServerChannel,
): Promise<number> {
  const folders: { real: string; mode: number; mtime: Date | undefined }[] = [];
  const unpacked = extract();
  const received = pipeline(channel, unpacked);
  received.catch(() => {});
  for await (const entry of unpacked) {
    const { name, mode, mtime, type } = entry.header;
    const real = await host.real(posix.join(folder, name));
    if (type === 'directory') {
      entry.resume();
      await mkdir(real).catch(error => {
        if (error.code !== 'EEXIST') throw error;
      });
      folders.push({ real, mode: mode ?? 0o755, mtime });
      continue;
    }
    await pipeline(
      entry as unknown as AsyncIterable<Buffer>,
      async function* (content: AsyncIterable<Buffer>) {
        for await (const chunk of content) {
          misbehaviour.take(chunk.length);
          yield chunk;
        }
      },
      createWriteStream(real),
    );
    await chmod(real, mode ?? 0o644);
    if (mtime) await utimes(real, mtime, mtime);
  }
  await received;
  // What was put into them since has changed their times.
  for (const { real, mode, mtime } of folders) {
    await chmod(real, mode);
    if (mtime) await utimes(real, mtime, mtime);
  }
  return 0;
}

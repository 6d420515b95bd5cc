import { randomBytes } from 'node:crypto';
import { asBytes, type ByteString } from '../../core/bytes.js';
import type { WebSite } from '../http/web-site.js';

/** A folder in which the account that puts a hatch there works. */
interface HatchFolder {
  /** As it is named in messages. */
  readonly place: string;
  list(
    skip: (entry: { readonly path: string }) => boolean,
    signal: AbortSignal,
  ): AsyncIterable<{ readonly path: string }>;
  entry(path: ByteString): Promise<unknown>;
  entriesAt?(paths: readonly ByteString[]): Promise<readonly unknown[]>;
  /** Writes a file that everybody at the host may read: PHP may run as another user than the account. */
  write(path: ByteString, content: Buffer): Promise<void>;
  remove(path: ByteString): Promise<void>;
}

/** Where a hatch is put, and how it is reached. */
export interface HatchPlace {
  /** The end that it is at, as the sheet names it. */
  readonly end: 'old' | 'new';
  readonly site: WebSite;
  /** The web root, by the account that puts the hatch there. */
  readonly folder: HatchFolder;
  /** The folder above it. */
  readonly above: HatchFolder;
  /** Whether it may be spoken to over a connection that others on the way can read; then bodies are sealed. */
  readonly isPlain: boolean;
  /** Notes that a hatch of this name is about to be put there, or is gone. */
  note(name: string, state: 'put' | 'gone'): Promise<void>;
  /** The names of those that runs before this one left. */
  left(): Promise<readonly string[]>;
}

/** A name that nobody guesses. */
export function newHatchName(): string {
  return `p${randomBytes(16).toString('hex')}`;
}

/** Whether something in a web root is a hatch, or belongs to one. */
export function isOfHatch(path: string): boolean {
  return /^\.?p[\da-f]{32}\.(?:php|state|try|secret)$/.test(path);
}

/** Takes away all that belongs to a hatch and is still there, by the account that put it there. */
export async function removeHatch(
  { folder, above, note }: Pick<HatchPlace, 'folder' | 'above' | 'note'>,
  name: string,
): Promise<void> {
  const clear = async (end: HatchFolder, names: readonly string[]) => {
    const paths = names.map(asBytes);
    const there = await (end.entriesAt?.(paths) ?? Promise.all(paths.map(path => end.entry(path))));
    for (const [i, path] of paths.entries()) if (there[i] !== undefined) await end.remove(path);
  };
  await Promise.all([
    clear(folder, [`${name}.php`, `.${name}.state`, `.${name}.try`]),
    // A folder above that nobody may see holds nothing of ours.
    clear(above, [`.${name}.secret`]).catch(() => {}),
  ]);
  await note(name, 'gone');
}

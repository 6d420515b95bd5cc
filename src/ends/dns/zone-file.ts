import { readFileSync, realpathSync } from 'node:fs';
import { readFile } from 'node:fs/promises';
import { dirname, resolve, sep } from 'node:path';
import { type ByteString, bytesOf } from '../../core/bytes.js';
import { readZoneFile, type ZoneFile } from '../../core/dns/master-file/read.js';
import { ZoneFileError } from '../../core/dns/master-file/words.js';
import { DamageError } from '../../core/errors.js';
import { replaceFile } from '../files/replace-file.js';
import { whileDoing } from '../system-errors.js';

/**
 * Reads a zone file, with those that it includes from its own folder.
 * @throws DamageError with the line of what cannot be read, EndError where it is not there
 */
export async function openZoneFile(file: string): Promise<ZoneFile> {
  const doing = `Reading the zone file ${file}`;
  const text = bytesOf(await whileDoing(doing, () => readFile(file)));
  try {
    return readZoneFile({ text, origin: undefined, include: name => includedFile(file, name) });
  } catch (error) {
    if (!(error instanceof ZoneFileError)) throw error;
    throw new DamageError({
      doing,
      cause: `line ${error.line}: ${error.message}`,
      remedy: 'Correct the line, or take the file from the server once more',
    });
  }
}

/** A file that a zone file includes. @throws an Error where it is not in the folder of that file */
function includedFile(file: string, name: string): ByteString {
  const folder = realpathSync(dirname(file));
  const path = realpathSync(resolve(folder, name));
  if (!path.startsWith(folder + sep)) throw new Error(`${name} is not in the folder of the zone file`);
  return bytesOf(readFileSync(path));
}

/** Where an included file is. */
export function includedPath(file: string, name: string): string {
  return name === '' ? file : realpathSync(resolve(dirname(file), name));
}

/** Writes a file anew at once, with the rights that it has. */
export async function writeZoneText(file: string, text: ByteString): Promise<void> {
  await whileDoing(`Writing the zone file ${file}`, () =>
    replaceFile(Buffer.from(file), Buffer.from(text, 'latin1')),
  );
}

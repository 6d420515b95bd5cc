import { access, constants } from 'node:fs/promises';
import { delimiter, join } from 'node:path';

const names = [
  'chromium',
  'chromium-browser',
  'google-chrome-stable',
  'google-chrome',
  'chrome',
  'microsoft-edge',
];

/**
 * Finds a browser that can be driven, on the path of programs.
 * @param wanted the program that the sheet names
 * @returns its path, or undefined where there is none
 */
export async function findBrowser(wanted: string | undefined): Promise<string | undefined> {
  const folders = (process.env.PATH ?? '').split(delimiter).filter(Boolean);
  const candidates =
    wanted === undefined ? folders.flatMap(folder => names.map(name => join(folder, name))) : [wanted];
  for (const candidate of candidates) {
    const isThere = await access(candidate, constants.X_OK).then(
      () => true,
      () => false,
    );
    if (isThere) return candidate;
  }
  return undefined;
}

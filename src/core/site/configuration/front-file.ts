import { asBytes, type ByteString, type Edit, textOf } from '../../bytes.js';

/** The file by which visitors come in where a site's program is in a folder of its own. */
export interface FrontFile {
  readonly file: string;
  /** What of the program it loads. */
  readonly loads: string;
}

const longestLine = 1000;

/** Other files that steer a web root; where the front file is, they are the site's too. */
export const besideFront = ['.htaccess', '.user.ini', 'php.ini', 'web.config', 'robots.txt'] as const;

/**
 * The folder from which a front file loads the program.
 * @returns its path in the folder of the front file, empty for that folder itself; undefined where nothing is loaded
 */
export function programFolder(source: ByteString, { loads }: FrontFile): string | undefined {
  return found(source, loads)?.folder;
}

/** The edit by which a front file loads the program from another folder, where it loads it from one of its own. */
export function programFolderEdit(source: ByteString, front: FrontFile, name: ByteString): Edit | undefined {
  const seen = found(source, front.loads);
  if (!seen || seen.folder === '' || seen.folder.includes('/') || seen.folder === textOf(name))
    return undefined;
  return { start: seen.start, end: seen.start + seen.written.length, put: name };
}

function found(source: ByteString, loads: string) {
  const load = new RegExp(
    `^[^#*/]*\\b(?:require|include)(?:_once)?\\b[^;]*?['"](?:\\./|/)?((?:[^'"/]+/)*)${loads.replaceAll('.', '\\.')}['"]`,
  );
  let start = 0;
  for (const line of source.split('\n')) {
    const match = line.length <= longestLine ? load.exec(line) : null;
    const written = match?.[1]?.replace(/\/$/, '');
    if (match && written !== undefined) {
      const folder = textOf(asBytes(written));
      if (folder.split('/').includes('..')) return undefined;
      return { folder, written, start: start + match[0].length - 1 - loads.length - match[1]!.length };
    }
    start += line.length + 1;
  }
  return undefined;
}

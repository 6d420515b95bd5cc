import { addressPath } from '../../address/address.js';
import { asBytes, type ByteString, type Edit } from '../../bytes.js';
import { type Finding, finding } from '../../findings/findings.js';
import { redirectBlock } from '../../redirects/block.js';
import { freezeBlock } from '../freeze/freeze.js';
import type { SiteMove } from './source/facts.js';

/** What was seen in a file that the web server or the language reads, and what of it moves with the site. */
export interface ServerFile {
  readonly edits: readonly Edit[];
  readonly findings: readonly Finding[];
}

const none: ServerFile = { edits: [], findings: [] };

/** Whether a path is one of those that `readServerFile` knows. */
export function isServerFile(path: string): boolean {
  return reader(path) !== undefined;
}

/**
 * Reads a file that steers the web server or the language: `.htaccess`, `.user.ini`, `php.ini`, `robots.txt`,
 * `web.config`. What follows from the new path or address is edited; what cannot be decided is reported.
 * @param place how the file is named in findings
 */
export function readServerFile(path: string, source: ByteString, move: SiteMove, place: string): ServerFile {
  const read = reader(path);
  if (!read) return none;
  const edits: Edit[] = [];
  const findings: Finding[] = [];
  // Redirects and the freeze that were put at the old site belong there alone.
  const blocks = [redirectBlock, freezeBlock].flatMap(one => one.in(source) ?? []);
  for (const block of blocks) edits.push({ ...block, put: asBytes('') });
  let start = 0;
  let number = 0;
  for (const line of source.split('\n')) {
    number++;
    const isBlock = blocks.some(block => start >= block.start && start < block.end);
    if (!isBlock)
      read(line, {
        move,
        edit: (from, to, put) => edits.push({ start: start + from, end: start + to, put: asBytes(put) }),
        place: `${place}:${number}`,
        report: finding => findings.push(finding),
      });
    start += line.length + 1;
  }
  return { edits: edits.sort((a, b) => a.start - b.start), findings };
}

interface Line {
  readonly move: SiteMove;
  edit(from: number, to: number, put: string): void;
  /** The line's place, for findings. */
  readonly place: string;
  report(finding: Finding): void;
}

type Reader = (line: string, at: Line) => void;

function reader(path: string): Reader | undefined {
  const name = path.slice(path.lastIndexOf('/') + 1);
  if (name === '.htaccess') return readHtaccess;
  if (name === '.user.ini' || name === 'php.ini') return readPhpIni;
  if (path === 'robots.txt') return readRobots;
  return name === 'web.config' ? readWebConfig : undefined;
}

/** https://httpd.apache.org/docs/2.4/mod/directives.html */
const readHtaccess: Reader = (line, at) => {
  if (/^\s*#/.test(line)) return;
  fitPath(/^(\s*RewriteBase\s+)(\S+)/i, line, at);
  fitPath(/^(\s*RewriteRule\s+(?:"[^"]*"|\S+)\s+"?)(\/[^\s"]*)/i, line, at);
  fitPath(/^(\s*ErrorDocument\s+\d+\s+)(\/\S*)/i, line, at);
  reportHost(line, at);
  const prepended = /^\s*php_(?:admin_)?value\s+(auto_prepend_file|auto_append_file)\s+"?([^"\s]+)/i.exec(
    line,
  );
  if (prepended) reportPrepended(prepended[1]!, prepended[2]!, at);
  if (/^\s*(?:php_value|php_flag)\s/i.test(line) && !prepended) {
    at.report(
      finding({
        level: 'note',
        code: 'server-file-php',
        place: at.place,
        what: `This is a setting of the language (${line.trim().slice(0, 60)}); a server that runs PHP as a separate process answers with error 500`,
        remedy: 'If the new site answers with error 500, take the line out and set it in the panel',
      }),
    );
  }
};

/** https://www.php.net/manual/en/configuration.file.per-user.php */
const readPhpIni: Reader = (line, at) => {
  const setting = /^\s*(auto_prepend_file|auto_append_file)\s*=\s*["']?([^"';\s]+)/i.exec(line);
  if (setting) return reportPrepended(setting[1]!, setting[2]!, at);
  const path = /^\s*[\w.]+\s*=\s*["']?(\/[^"';\s]+)/.exec(line)?.[1];
  if (path === undefined) return;
  const next = at.move.rewritten(asBytes(path));
  const from = line.indexOf(path);
  if (next !== path) at.edit(from, from + path.length, next);
  else {
    at.report(
      finding({
        level: 'note',
        code: 'server-file-path',
        place: at.place,
        what: `This line names a path on the old server (${path})`,
        remedy: 'Check whether it is there at the new host, or name it in rewrite.pairs',
      }),
    );
  }
};

/** RFC 9309 */
const readRobots: Reader = (line, at) => {
  const sitemap = /^(\s*sitemap:\s*)(\S+)/i.exec(line);
  if (sitemap) {
    const [, before, address] = sitemap;
    const next = at.move.rewritten(asBytes(address!));
    if (next !== address) at.edit(before!.length, before!.length + address!.length, next);
  }
  fitPath(/^(\s*(?:dis)?allow:\s*)(\/\S*)/i, line, at);
  if (/^\s*disallow:\s*\/\s*$/i.test(line)) {
    at.report(
      finding({
        level: 'note',
        code: 'robots-shut-out',
        place: at.place,
        what: 'Search engines are asked to stay away from the whole site',
        remedy: 'If the new site is to be found, remove the line after the cutover',
      }),
    );
  }
};

const readWebConfig: Reader = (line, at) => {
  reportHost(line, at);
};

/** Puts a path below the old one where it belongs below the new one. */
function fitPath(pattern: RegExp, line: string, { move, edit }: Line): void {
  const found = pattern.exec(line);
  if (!found) return;
  const [, before, path] = found;
  const old = addressPath(move.oldAddress);
  const next = addressPath(move.newAddress);
  if (old === next || !isBelow(path!, old)) return;
  // What was fitted before stays as it is, also where the new path begins like the old one.
  if (isBelow(next, old) && isBelow(path!.replace(/\/$/, ''), next)) return;
  edit(before!.length, before!.length + path!.length, `${next}${path!.slice(old.length)}` || '/');
}

function isBelow(path: string, folder: string): boolean {
  return path === folder || path.startsWith(`${folder}/`);
}

/** A robots.txt that asks search engines to stay away from the whole site, or one that no longer does. */
export function robotsThat(wish: 'hide' | 'show', source: ByteString | undefined): ByteString | undefined {
  if (wish === 'hide') return asBytes('User-agent: *\nDisallow: /\n');
  return source && asBytes(source.replace(/^\s*disallow:\s*\/\s*(?:\r?\n|$)/gim, ''));
}

function reportHost(line: string, { move, place, report }: Line): void {
  const host = move.oldAddress.host;
  if (!line.toLowerCase().replaceAll('\\.', '.').includes(host) || host === move.newAddress.host) return;
  report(
    finding({
      level: 'warn',
      code: 'server-file-host',
      place,
      what: `A rule names the old host (${line.trim().slice(0, 80)}); it may send visitors of the new site back`,
      remedy: 'Change the rule by hand at the new host, or take it out',
    }),
  );
}

function reportPrepended(setting: string, path: string, { place, report }: Line): void {
  if (path === 'none') return;
  report(
    finding({
      level: 'warn',
      code: 'server-file-prepends',
      place,
      what: `${setting} names ${path}; where that file is not there, no page of the new site is shown`,
      remedy: 'Remove the line for the move and let the extension that wrote it write it again',
    }),
  );
}

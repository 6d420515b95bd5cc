import { MarkedBlock } from '../../text/marked-block.js';

/** The rules by which an old site refuses what writes, in its `.htaccess`. */
export const freezeBlock = new MarkedBlock('freeze of the move');

/** What the rules of a freeze are made of. */
export interface FreezeWish {
  /** When it ends by itself: the server's own time, as `YYYYMMDDHHmmSS`. */
  readonly until: string;
  /** A random word in the path by which the server is asked for its time. */
  readonly token: string;
  /** Paths below the host that only the site's keepers ask for; nothing below them is answered. */
  readonly closed: readonly string[];
}

/**
 * Rules for Apache that answer 503 to whatever could write, up to a time: other methods than those that only read, and the
 * site's administration. Reading goes on. The server's time is that of its zone (`%{TIME}`), for which it can be asked.
 */
export function freezeRules({ until, token, closed }: FreezeWish): string {
  const paths = closed.map(path => path.replace(/[^\w/-]/g, '\\$&'));
  const isClosed = paths.length > 0 ? [`RewriteCond %{REQUEST_URI} ^(?:${paths.join('|')}) [OR]`] : [];
  return [
    'ErrorDocument 503 "This site is moving to another server. You can read it; writing is possible again in a few minutes."',
    'RewriteEngine On',
    `RewriteCond %{REQUEST_URI} /${clockPath(token)}$`,
    'RewriteRule ^ /?t=%{TIME} [R=302,L]',
    // The last pass may come through a hatch that is there.
    'RewriteCond %{REQUEST_FILENAME} /p[\\da-f]{32}\\.php$',
    'RewriteCond %{REQUEST_FILENAME} -f',
    'RewriteRule ^ - [L]',
    `RewriteCond %{TIME} <${until}`,
    ...isClosed,
    'RewriteCond %{REQUEST_METHOD} !^(?:GET|HEAD|OPTIONS)$',
    'RewriteRule ^ - [R=503,L]',
    '',
  ].join('\n');
}

/** The path by which the server is asked for its time. */
export function clockPath(token: string): string {
  return `able-porter-clock-${token}`;
}

/** A time as a server writes it whose clock is ahead of UTC by some seconds. @param at milliseconds since 1970 */
export function serverTime(at: number, offset: number): string {
  return new Date(at + offset * 1000).toISOString().replace(/\D/g, '').slice(0, 14);
}

/** How far a server's time is ahead of UTC, in seconds, to the quarter of an hour as zones are; undefined for what is no time. */
export function offsetOf(said: string, now: number): number | undefined {
  const parts = /^(\d{4})(\d\d)(\d\d)(\d\d)(\d\d)(\d\d)$/.exec(said)?.slice(1).map(Number);
  if (!parts) return undefined;
  const [year, month, day, hour, minute, second] = parts;
  const seconds = (Date.UTC(year!, month! - 1, day!, hour!, minute!, second!) - now) / 1000;
  return Math.round(seconds / 900) * 900;
}

const mark = 'Able Porter: freeze of the move';
/** WordPress shows its maintenance page for ten minutes from the time that this file gives (wp_is_maintenance_mode). */
export function maintenanceFile(until: number): string {
  return `<?php // ${mark}\n$upgrading = ${until - 600};\n`;
}

export function isOurMaintenanceFile(source: string): boolean {
  return source.startsWith(`<?php // ${mark}\n`);
}

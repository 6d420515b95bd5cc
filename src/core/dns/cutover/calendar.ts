import type { TimelineEntry } from './timeline.js';

/** A line has at most so many bytes (RFC 5545, section 3.1). */
const longestLine = 75;

/**
 * The timeline as a calendar file (RFC 5545).
 * @param name what the entries are of
 * @param now milliseconds since 1970
 */
export function calendarOf(name: string, entries: readonly TimelineEntry[], now: number): string {
  const events = entries.flatMap(({ at, what, why, command }, i) => {
    if (at === undefined) return [];
    return [
      'BEGIN:VEVENT',
      `UID:${escaped(name)}-${i}-${at}@able-porter`,
      `DTSTAMP:${stamp(now)}`,
      `DTSTART:${stamp(at)}`,
      `SUMMARY:${escaped(`${name}: ${what}`)}`,
      `DESCRIPTION:${escaped([why, command].filter(Boolean).join('\n'))}`,
      'END:VEVENT',
    ];
  });
  const lines = [
    'BEGIN:VCALENDAR',
    'VERSION:2.0',
    'PRODID:-//Able Porter//cutover//EN',
    ...events,
    'END:VCALENDAR',
  ];
  return lines.map(line => `${folded(line)}\r\n`).join('');
}

function stamp(time: number): string {
  return `${new Date(time).toISOString().slice(0, 19).replace(/[-:]/g, '')}Z`;
}

function escaped(text: string): string {
  return text.replace(/[\\;,]/g, '\\$&').replace(/\r?\n/g, '\\n');
}

/** Cuts a line between characters, so that no piece is too long in UTF-8. */
function folded(line: string): string {
  let out = '';
  let length = 0;
  for (const char of line) {
    const size = Buffer.byteLength(char);
    if (length + size > longestLine) {
      out += '\r\n ';
      length = 1;
    }
    out += char;
    length += size;
  }
  return out;
}

const months = ['jan', 'feb', 'mar', 'apr', 'may', 'jun', 'jul', 'aug', 'sep', 'oct', 'nov', 'dec'];
const day = 86_400_000;

/**
 * The time in an FTP listing of old, which is made for people: `Jul 14 2017`, `Nov 23 12:14` (of the last twelve months),
 * or as DOS has it, `11-23-26 12:14PM`. It is in the server's own zone, which is not named, and is taken for UTC: what
 * matters is that the same file has the same time again.
 * @param now milliseconds since 1970, to tell the year that a listing leaves out
 * @returns milliseconds since 1970, or undefined where the text is none of these
 */
export function timeOfListing(text: string, now: number): number | undefined {
  const unix = /^([A-Za-z]{3})\s+(\d{1,2})\s+(?:(\d{4})|(\d{1,2}):(\d{2}))$/.exec(text.trim());
  if (unix) {
    const month = months.indexOf(unix[1]!.toLowerCase());
    if (month < 0) return undefined;
    const [date, year, hour, minute] = [unix[2], unix[3], unix[4] ?? 0, unix[5] ?? 0].map(Number);
    if (unix[3] !== undefined) return Date.UTC(year!, month, date);
    const thisYear = new Date(now).getUTCFullYear();
    const time = Date.UTC(thisYear, month, date, hour, minute);
    // A server may be a zone ahead.
    return time > now + day ? Date.UTC(thisYear - 1, month, date, hour, minute) : time;
  }
  const dos = /^(\d{2})-(\d{2})-(\d{2}|\d{4})\s+(\d{1,2}):(\d{2})\s*([AP]M)?$/i.exec(text.trim());
  if (!dos) return undefined;
  const [month, date, short, hour, minute] = dos.slice(1, 6).map(Number);
  const year = dos[3]!.length === 4 ? short! : short! + (short! < 70 ? 2000 : 1900);
  const half = dos[6]?.toLowerCase();
  const hours = half === undefined ? hour! : (hour! % 12) + (half === 'pm' ? 12 : 0);
  return Date.UTC(year, month! - 1, date, hours, minute);
}

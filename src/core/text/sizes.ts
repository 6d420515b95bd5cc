import { UsageError } from '../errors.js';

/** Bytes in the unit that fits: 812 B, 4.1 kB, 25 MB. */
export function sizeText(bytes: number): string {
  const units = ['B', 'kB', 'MB', 'GB', 'TB'];
  let value = bytes;
  let unit = 0;
  while (Math.round(value) >= 1000 && unit < units.length - 1) {
    value /= 1000;
    unit++;
  }
  return `${unit === 0 || value >= 99.95 ? Math.round(value) : value.toFixed(1)} ${units[unit]}`;
}

/** A whole size as `parseSize` reads it that is not above a number of bytes: 2 MiB, 100 KiB. @param bytes at least 1024 */
export function sizeWithin(bytes: number): string {
  const mebibytes = Math.floor(bytes / 1024 ** 2);
  return mebibytes > 0 ? `${mebibytes} MiB` : `${Math.floor(bytes / 1024)} KiB`;
}

/** A size as people write it: `5 MiB`, `200MB`, or a number of bytes. */
export const sizePattern = /^(\d+(?:\.\d+)?)\s*(?:([kmgt])(i?)b|b)?$/i;

/**
 * Bytes of a size as people write it; `MB` is a million, `MiB` 1024 × 1024.
 * @param where it is, for the message
 * @throws UsageError where it is no size
 */
export function parseSize(text: string, where: string): number {
  const [, number, unit, binary] = sizePattern.exec(text.trim()) ?? [];
  const bytes = Math.floor(
    Number(number) * (binary ? 1024 : 1000) ** (unit ? 'kmgt'.indexOf(unit.toLowerCase()) + 1 : 0),
  );
  if (number !== undefined && bytes > 0) return bytes;
  throw new UsageError({
    doing: `Reading ${where}`,
    cause: `"${text}" is not a size`,
    remedy: 'Write one such as 200MB, 5 MiB or a number of bytes',
  });
}

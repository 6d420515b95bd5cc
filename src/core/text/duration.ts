const units: readonly (readonly [seconds: number, name: string])[] = [
  [86_400, 'day'],
  [3600, 'hour'],
  [60, 'minute'],
  [1, 'second'],
];

/** Seconds in words, with the two largest units that are not zero: `1 day 2 hours`, `5 minutes`. */
export function duration(seconds: number): string {
  const parts: string[] = [];
  let left = Math.round(seconds);
  for (const [size, name] of units) {
    const count = Math.floor(left / size);
    left -= count * size;
    if (count > 0 && parts.length < 2) parts.push(`${count} ${name}${count === 1 ? '' : 's'}`);
    else if (parts.length > 0) break;
  }
  return parts.join(' ') || '0 seconds';
}

/** A count with its thousands set apart: 12 345. */
export function count(n: number): string {
  return String(n).replace(/\B(?=(\d{3})+(?!\d))/g, ' ');
}

/** Bytes in the unit that fits: 812 B, 4.1 kB, 25 MB. */
export function bytes(n: number): string {
  const units = ['B', 'kB', 'MB', 'GB', 'TB'];
  let value = n;
  let unit = 0;
  while (value >= 1000 && unit < units.length - 1) {
    value /= 1000;
    unit++;
  }
  return `${unit === 0 || value >= 100 ? Math.round(value) : value.toFixed(1)} ${units[unit]}`;
}

/** Seconds as a person says them: 0.3 s, 42 s, 3 min 20 s. */
export function seconds(n: number): string {
  if (n < 10) return `${n.toFixed(1)} s`;
  if (n < 100) return `${Math.round(n)} s`;
  return `${Math.floor(n / 60)} min ${Math.round(n % 60)} s`;
}

/** A count with its word: 1 file, 2 files. */
export function counted(n: number, one: string, many = `${one}s`): string {
  return `${count(n)} ${n === 1 ? one : many}`;
}

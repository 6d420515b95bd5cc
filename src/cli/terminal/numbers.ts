/** A count with its thousands set apart: 12 345. */
export function count(n: number): string {
  return String(n).replace(/\B(?=(\d{3})+(?!\d))/g, ' ');
}

export { sizeText as bytes } from '../../core/sizes.js';

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

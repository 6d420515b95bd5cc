/** A count with its thousands set apart: 12 345. */
export function count(n: number): string {
  return String(n).replace(/\B(?=(\d{3})+(?!\d))/g, ' ');
}

/**
 * A count with its noun: 1 table, 12 345 tables.
 * @param many the plural where it is not the noun with an `s`
 */
export function counted(n: number, one: string, many = `${one}s`): string {
  return `${count(n)} ${agreeing(n, one, many)}`;
}

/** The form of a word that goes with a count, such as `is` or `are`. */
export function agreeing(n: number, one: string, many: string): string {
  return n === 1 ? one : many;
}

/** A time of the journal as it is shown: 2026-12-05 21:00 UTC. @param at in ISO 8601, with Z */
export function moment(at: string): string {
  return `${at.replace('T', ' ').slice(0, 16)} UTC`;
}

/** Seconds as a person says them: 0.3 s, 42 s, 3 min 20 s, 2 h 5 min. */
export function seconds(n: number): string {
  if (n < 9.95) return `${n.toFixed(1)} s`;
  const whole = Math.round(n);
  if (whole < 100) return `${whole} s`;
  if (whole < 3600) return `${Math.floor(whole / 60)} min ${whole % 60} s`;
  const minutes = Math.round(whole / 60);
  return `${Math.floor(minutes / 60)} h ${minutes % 60} min`;
}

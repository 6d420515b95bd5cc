/** So many differences of one kind are noted of a page. */
export const mostChanges = 20;

/** A text with its end left out where it is long. */
export function cut(text: string, length = 90): string {
  return text.length > length ? `${text.slice(0, length - 1)}…` : text;
}

/** A piece of a page, as a place on it. */
export function quoted(text: string): string {
  return `“${cut(text, 60)}”`;
}

/** What one side has and the other has not, as what is said of the page. */
export function insteadOf(kind: string, was: string | undefined, is: string | undefined): string {
  if (is === undefined) return `lacks ${kind} ${was}`;
  return was === undefined
    ? `has ${kind} ${is}, which the old page does not`
    : `has ${kind} ${is} instead of ${was}`;
}

import escapeStringRegexp from 'escape-string-regexp';

/** A text as a pattern that matches just it, as a person would write it in a server's configuration. */
export function literalPattern(text: string): string {
  // The package writes `-` as \x2d for the sake of character classes; outside of one a dash is itself.
  return escapeStringRegexp(text).replaceAll('\\x2d', '-');
}

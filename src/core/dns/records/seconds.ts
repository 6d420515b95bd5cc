const units: Readonly<Record<string, number>> = { s: 1, m: 60, h: 3600, d: 86_400, w: 604_800 };

/** Whether a word of a zone file is a time: digits, or digits with units. */
export function isSeconds(text: string): boolean {
  return /^(?:\d+|(?:\d+[smhdw])+)$/i.test(text);
}

/**
 * Reads a time of a zone file: seconds, or numbers with units such as `1h30m`.
 * @throws an Error for what is none, or more than 68 years (RFC 2181, section 8)
 */
export function seconds(text: string): number {
  if (!isSeconds(text)) throw new Error(`${JSON.stringify(text)} is no time`);
  const parts = [...text.matchAll(/(\d+)([smhdw]?)/gi)];
  const sum = parts.reduce(
    (all, [, count, unit]) => all + Number(count) * units[unit!.toLowerCase() || 's']!,
    0,
  );
  if (sum > 0xffffffff) throw new Error(`${text} is too long a time`);
  return sum;
}

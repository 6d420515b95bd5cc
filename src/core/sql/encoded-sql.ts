import { asBytes, type ByteString, bytesOfText } from '../bytes.js';

declare const encoded: unique symbol;

/**
 * A statement, or a part of one, as the bytes that a session sends: text in it is encoded and quoted already. It can
 * only be made by the functions below, so that no text reaches a server unquoted or in another encoding.
 */
export type EncodedSql = ByteString & { readonly [encoded]: true };

/** A statement of fixed words (ASCII) with encoded parts and numbers in it. */
export function sql(words: TemplateStringsArray, ...parts: readonly (EncodedSql | number)[]): EncodedSql {
  let whole = words[0] ?? '';
  for (const [i, part] of parts.entries()) whole += String(part) + (words[i + 1] ?? '');
  return whole as EncodedSql;
}

/** Parts with something between them, as in a list. */
export function joined(parts: readonly EncodedSql[], between: EncodedSql = sql`, `): EncodedSql {
  return parts.join(between) as EncodedSql;
}

/** A name of a table, column or database. */
export function identifier(name: string): EncodedSql {
  return bytesOfText(quoteName(name)) as string as EncodedSql;
}

/** Text as a string literal, for a session in which the backslash escapes (as in all of ours). */
export function literal(text: string): EncodedSql {
  return quoted(bytesOfText(text));
}

/** Bytes in the character set of the session as a string literal. */
export function literalOfBytes(value: ByteString): EncodedSql {
  return quoted(value);
}

/** Bytes as a hex literal. */
export function hexLiteral(value: ByteString): EncodedSql {
  return `x'${Buffer.from(value, 'latin1').toString('hex')}'` as EncodedSql;
}

/** A statement of a dump, or a word of a fixed list, which is encoded already. */
export function encodedSql(statement: string): EncodedSql {
  return asBytes(statement) as string as EncodedSql;
}

/** A name in SQL as text, for messages. */
export function quoteName(name: string): string {
  return `\`${name.replaceAll('`', '``')}\``;
}

function quoted(bytes: string): EncodedSql {
  return `'${bytes.replaceAll("'", "''").replaceAll('\\', '\\\\')}'` as EncodedSql;
}

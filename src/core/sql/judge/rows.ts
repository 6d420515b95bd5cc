import { isSafeCharset } from './settings.js';

/** So far is looked at once for a word and what belongs to it. */
export const longestWord = 2048;

/** Functions that dump programs write around values. */
const functions =
  'cast|convert|concat|unhex|hex|char|now|current_timestamp|curdate|curtime|utc_timestamp|uuid_to_bin|inet_aton|inet6_aton|from_base64|json_array|json_object|point|st_(?:geom|point|line|poly|mpoint|mline|mpoly|geomcoll)\\w*from(?:text|wkb)|(?:geom|geometry|point|line|poly)\\w*from(?:text|wkb)';
const call = new RegExp(`^(?:${functions})\\s*(?=\\()`, 'i');
/** What may be inside of the brackets of such a function. */
const inside =
  /^(?:using|as|char|nchar|binary|signed|unsigned|integer|decimal|date|datetime|time|json|character|set|charset|utf8mb4|utf8mb3|utf8|latin1|ascii)\b/i;
const plain = /^(?:null|true|false|default|current_timestamp|current_date|current_time)\b(?!\s*\()/i;
const exponent = /^e[-+]?\d+\b/i;
const introducer = /^_([a-z0-9]+)\s*(?=['"]|0x|x'|b')/i;
const name = '(?:`(?:[^`]|``)+`|[\\w$\\x80-\\xff]+)';
/** The end of an INSERT that puts rows in the place of those that are there. */
const onDuplicate = new RegExp(
  `^on\\s+duplicate\\s+key\\s+update\\s+${name}\\s*=\\s*values?\\s*\\(\\s*${name}\\s*\\)(?:\\s*,\\s*${name}\\s*=\\s*values?\\s*\\(\\s*${name}\\s*\\))*\\s*(?=;|$)`,
  'i',
);

/**
 * How long what stands between literals of a row is, where dumps have it there; 0 where they do not.
 * @param text what comes from there on
 * @param depth how many brackets are open
 * @param before the byte before it
 */
export function wordLength(text: string, depth: number, before: number): number {
  if (depth === 0) return onDuplicate.exec(text)?.[0].length ?? 0;
  const isAfterDigit = (before >= 0x30 && before <= 0x39) || before === 0x2e;
  if (isAfterDigit) return exponent.exec(text)?.[0].length ?? 0;
  const found = plain.exec(text) ?? call.exec(text);
  if (found) return found[0].length;
  const charset = introducer.exec(text);
  if (charset) return isSafeCharset(charset[1]!) ? charset[0].length : 0;
  if (/^[bn]'/i.test(text)) return 1;
  return depth > 1 ? (inside.exec(text)?.[0].length ?? 0) : 0;
}

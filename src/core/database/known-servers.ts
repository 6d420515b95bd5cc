import { UsageError } from '../errors.js';
import type { ServerHas } from './fitting.js';

/** A server that is known by its name and version alone. */
export interface KnownServer {
  readonly has: ServerHas;
  /** Bytes of the longest statement that it takes as it comes (`max_allowed_packet`). */
  readonly packet: number;
}

const mega = 1024 * 1024;

/** The character sets that all versions have, with the collations of each besides its `_bin`. */
const common = `big5 chinese_ci|dec8 swedish_ci|cp850 general_ci|hp8 english_ci|koi8r general_ci
latin1 german1_ci swedish_ci danish_ci german2_ci general_ci general_cs spanish_ci
latin2 czech_cs general_ci hungarian_ci croatian_ci|swe7 swedish_ci|ascii general_ci|ujis japanese_ci
sjis japanese_ci|hebrew general_ci|tis620 thai_ci|euckr korean_ci|koi8u general_ci|gb2312 chinese_ci
greek general_ci|cp1250 general_ci czech_cs croatian_ci polish_ci|gbk chinese_ci|latin5 turkish_ci
armscii8 general_ci|cp866 general_ci|keybcs2 general_ci|macce general_ci|macroman general_ci|cp852 general_ci
latin7 estonian_cs general_ci general_cs|cp1251 bulgarian_ci ukrainian_ci general_ci general_cs|utf16le general_ci
cp1256 general_ci|cp1257 lithuanian_ci general_ci|geostd8 general_ci|cp932 japanese_ci|eucjpms japanese_ci`
  .split(/[|\n]/)
  .map(line => line.split(' '));

const languages =
  'icelandic latvian romanian slovenian polish estonian spanish swedish turkish czech danish lithuanian slovak spanish2 roman persian esperanto hungarian sinhala german2 vietnamese croatian'.split(
    ' ',
  );

/** Collations of MySQL 8 by the Unicode rules 9.0, after `utf8mb4_`. */
const of900 = [
  '0900_ai_ci',
  '0900_as_ci',
  '0900_as_cs',
  '0900_bin',
  'ja_0900_as_cs',
  'ja_0900_as_cs_ks',
  'zh_0900_as_cs',
  ...'bg bs cs da de_pb eo es es_trad et gl hr hu is la lt lv mn_cyrl nb nn pl ro ru sk sl sr_latn sv tr vi'
    .split(' ')
    .flatMap(language => [`${language}_0900_ai_ci`, `${language}_0900_as_cs`]),
];

/** Collations of MariaDB by the Unicode rules 14.0, which it names without a character set. */
const of1400 = ['', ...languages.map(language => `_${language}`)].flatMap(language =>
  ['', '_nopad'].flatMap(pad =>
    ['ai_ci', 'ai_cs', 'as_ci', 'as_cs'].map(kind => `uca1400${language}${pad}_${kind}`),
  ),
);

/**
 * What a server has that is named as `mariadb-10.6` or `mysql-8.0`.
 * https://mariadb.com/kb/en/supported-character-sets-and-collations/ and
 * https://dev.mysql.com/doc/refman/8.0/en/charset-charsets.html
 * @throws UsageError where it is named otherwise
 */
export function knownServer(name: string): KnownServer {
  const [, program, major, minor] = /^(mariadb|mysql)-(\d+)\.(\d+)(?:\.\d+)?$/i.exec(name.trim()) ?? [];
  const version = Number(major) + Number(minor) / 1000;
  if (!program || version < 5.005) {
    throw new UsageError({
      doing: 'Reading --for',
      cause: `"${name}" names no server`,
      remedy: 'Write it as mariadb-10.6 or mysql-8.0; the versions 5.5 and later are known',
    });
  }
  return program.toLowerCase() === 'mariadb' ? mariadb(version) : mysql(version);
}

function mariadb(version: number): KnownServer {
  const has = sets(version >= 10.006, version >= 10.002);
  for (const charset of ['ucs2', 'utf8', 'utf8mb3', 'utf8mb4', 'utf16', 'utf32']) {
    if (!has.charsets.has(charset)) continue;
    for (const kind of ['croatian_mysql561_ci', 'myanmar_ci', 'thai_520_w2'])
      has.collations.add(`${charset}_${kind}`);
  }
  if (version >= 10.01) for (const collation of of1400) has.collations.add(collation);
  return { has, packet: version >= 10.002 ? 16 * mega : mega };
}

function mysql(version: number): KnownServer {
  const has = sets(version >= 8, false);
  if (version >= 5.007) {
    has.charsets.add('gb18030');
    for (const kind of ['chinese_ci', 'bin', 'unicode_520_ci']) has.collations.add(`gb18030_${kind}`);
  }
  if (version >= 8) for (const kind of of900) has.collations.add(`utf8mb4_${kind}`);
  return { has, packet: version >= 8 ? 64 * mega : version >= 5.006 ? 4 * mega : mega };
}

/** @param long whether `utf8` is also called `utf8mb3` @param nopad whether each has collations without padding */
function sets(long: boolean, nopad: boolean): { charsets: Set<string>; collations: Set<string> } {
  const charsets = new Set(['binary']);
  const collations = new Set(['binary']);
  const add = (charset: string, kinds: readonly string[], unpadded: readonly string[]) => {
    charsets.add(charset);
    for (const kind of [...kinds, 'bin']) collations.add(`${charset}_${kind}`);
    if (!nopad) return;
    for (const kind of unpadded) collations.add(`${charset}_${kind.replace(/(?=_c[is]$)/, '_nopad')}`);
    collations.add(`${charset}_nopad_bin`);
  };
  for (const [charset, ...kinds] of common) {
    const usual = charset === 'latin1' ? 'swedish_ci' : kinds.find(kind => kind === 'general_ci');
    add(charset!, kinds, [usual ?? kinds[0]!]);
  }
  const unicode = ['general_ci', 'unicode_ci', 'unicode_520_ci'];
  const kinds = [...unicode, ...languages.map(language => `${language}_ci`)];
  const names = ['ucs2', 'utf8', 'utf8mb4', 'utf16', 'utf32', ...(long ? ['utf8mb3'] : [])];
  for (const charset of names) {
    const old = /^(?:ucs2|utf8|utf8mb3)$/.test(charset) ? ['general_mysql500_ci'] : [];
    add(charset, [...kinds, ...old], unicode);
  }
  return { charsets, collations };
}

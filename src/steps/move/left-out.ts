import { textOf } from '../../core/bytes.js';
import { type Finding, finding } from '../../core/findings/findings.js';
import type { RefusedStatement } from '../../core/sql/scanner.js';
import { showable } from '../../core/text/display.js';
import { counted } from '../../core/text/numbers.js';
import { linesAt } from '../../ends/database/dump/lines.js';

/** So many statements are named. */
const most = 5;
/** Dumps of whole databases have these; nothing is missing without them. */
const usual = new RegExp(
  [
    String.raw`^(?:/\*!\d*\s*)?(?:`,
    [
      String.raw`use\b`,
      String.raw`(?:create|drop|alter)\s+(?:database|schema)\b`,
      String.raw`flush\b`,
      String.raw`set\s+(?:@@(?:session|global)\.|session\s+)?(?:sql_log_bin|gtid_purged)\b`,
      String.raw`set\s+@mysqldump_temp_log_bin\b`,
      // What one dump program asks a server about its engine.
      String.raw`(?:select|set)\b.*@rocksdb_`,
      String.raw`(?:prepare|execute|deallocate\s+prepare)\s+s\b`,
    ].join('|'),
    ')',
  ].join(''),
  'i',
);

/** What a dump has besides what dumps have, and that is not passed on. @param file the dump */
export async function leftOutFindings(
  file: string,
  leftOut: readonly RefusedStatement[],
): Promise<Finding[]> {
  if (leftOut.length === 0) return [];
  const isUsual = (one: RefusedStatement) => usual.test(one.head);
  const all = [...leftOut].sort((a, b) => Number(isUsual(a)) - Number(isUsual(b)));
  const some = all.slice(0, most);
  const lines = await linesAt(
    file,
    some.map(({ at }) => at),
  );
  const shown = some.map(
    ({ head, why }, i) => `line ${lines[i]}: ${showable(textOf(head)).slice(0, 60)} (${why})`,
  );
  const others = leftOut.length > most ? `; and ${leftOut.length - most} more` : '';
  return [
    finding({
      level: all.every(isUsual) ? 'note' : 'warn',
      code: 'statements-left-out',
      place: file,
      what: `${counted(leftOut.length, 'statement')} of the dump ${leftOut.length === 1 ? 'was' : 'were'} left out, since they do more than make and fill the site’s tables: ${shown.join('; ')}${others}`,
      remedy: 'Look at where the dump comes from; what the site needs of it must be done by hand',
    }),
  ];
}

import { asBytes, type Edit } from '../bytes.js';

const token =
  /'(?:[^'\\]|\\.|'')*'|"((?:[^"\\]|\\.|"")*)"|`((?:[^`]|``)+)`|--\s[^\n]*|#[^\n]*|\/\*M?!\d*|\/\*[^!][^*]*(?:\*(?!\/)[^*]*)*\*\/|([A-Za-z_$\x80-\xff][\w$\x80-\xff]*)|[^\s\w]|\d+/gs;

/** Words after which a table's name is (perhaps with a database's name before it). */
const before = new Set([
  'table',
  'tables',
  'exists',
  'into',
  'references',
  'view',
  'from',
  'join',
  'update',
  'on',
  'to',
]);
const lists = new Set(['table', 'tables', 'exists', 'from', 'view']);

/**
 * Edits that rename tables in a statement that is not an INSERT of rows: where a name is after a word such as
 * TABLE, FROM or REFERENCES, in the list that follows one, or before a full stop. Strings and comments are left.
 * @param rename the new name of a table, or undefined where it keeps its own
 */
export function renameTables(
  s: string,
  start: number,
  end: number,
  rename: (name: string) => string | undefined,
): Edit[] {
  const edits: Edit[] = [];
  const text = s.slice(start, end);
  let previous = '';
  /** The last word that a list of names can follow, while one does. */
  let listed = '';
  token.lastIndex = 0;
  for (let found = token.exec(text); found; found = token.exec(text)) {
    const [whole, ansi, quoted, bare] = found;
    if (/^(?:--\s|#|\/\*)/.test(whole)) continue;
    // Where a name is, double quotes are those of ANSI mode; elsewhere they may be a string's.
    const name = quoted?.replaceAll('``', '`') ?? ansi ?? bare;
    const next = name === undefined ? undefined : rename(name);
    if (next !== undefined) {
      const inList = (previous === ',' && listed !== '') || before.has(previous);
      const after = /^\s*\./.test(text.slice(token.lastIndex, token.lastIndex + 20));
      if (inList || after || previous === '.') {
        const put = asBytes(bare === undefined ? whole[0] + next.replaceAll('`', '``') + whole[0] : next);
        edits.push({ start: start + found.index, end: start + found.index + whole.length, put });
      }
    }
    const word = bare?.toLowerCase() ?? whole;
    // The brackets that a view's program puts around joined tables.
    if (word === '(' && (previous === 'from' || previous === 'join')) continue;
    if (lists.has(word)) listed = word;
    else if (word === '(' || word === ';' || word === 'where' || word === 'select') listed = '';
    previous = word;
  }
  return edits;
}

import type { Cursor } from './cursor.js';
import { NotAllowed } from './cursor.js';

const setOf = (text: string): ReadonlySet<string> => new Set(text.trim().split(/\s+/));

/** Functions that compute something of what they are given, and do nothing else. */
const functions = setOf(`
  abs acos adddate addtime aes_decrypt aes_encrypt ascii asin atan atan2 avg bin bit_and bit_count bit_length bit_or bit_xor
  cast ceil ceiling char char_length character_length charset coalesce coercibility collation compress concat concat_ws conv
  convert convert_tz cos cot count crc32 cume_dist curdate current_date current_time current_timestamp curtime
  date date_add date_format date_sub datediff day dayname dayofmonth dayofweek dayofyear degrees dense_rank elt exp
  export_set extract field find_in_set first_value floor format from_base64 from_days from_unixtime geometrycollection
  geometryfromtext geomfromtext geomfromwkb get_format greatest group_concat hex hour if ifnull inet6_aton inet6_ntoa
  inet_aton inet_ntoa insert instr interval is_ipv4 is_ipv6 is_uuid isnull json_array json_array_append json_arrayagg
  json_array_insert json_compact json_contains json_contains_path json_depth json_detailed json_exists json_extract
  json_insert json_keys json_length json_loose json_merge json_merge_patch json_merge_preserve json_object json_objectagg
  json_overlaps json_pretty json_query json_quote json_remove json_replace json_search json_set json_storage_size json_type
  json_unquote json_valid json_value lag last_day last_value lcase lead least left length linefromtext linestring ln locate
  localtime localtimestamp log log10 log2 lower lpad ltrim make_set makedate maketime max md5 microsecond mid min minute mod
  month monthname multilinestring multipoint multipolygon natural_sort_key now nth_value ntile nullif oct octet_length ord
  percent_rank period_add period_diff pi point pointfromtext polyfromtext polygon position pow power quarter quote radians
  rand rank regexp_instr regexp_like regexp_replace regexp_substr repeat replace reverse right round row_number rpad rtrim
  sec_to_time second sha sha1 sha2 sign sin soundex space sqrt st_area st_asbinary st_asgeojson st_astext st_aswkb st_aswkt
  st_contains st_distance st_distance_sphere st_geomfromtext st_geomfromwkb st_geomfromgeojson st_intersects st_latitude
  st_longitude st_pointfromtext st_polyfromtext st_srid st_within st_x st_y std stddev stddev_pop stddev_samp str_to_date
  strcmp subdate substr substring substring_index subtime sum sysdate tan time time_format time_to_sec timediff timestamp
  timestampadd timestampdiff to_base64 to_days to_seconds trim truncate ucase uncompress uncompressed_length unhex
  unix_timestamp upper utc_date utc_time utc_timestamp uuid uuid_short uuid_to_bin bin_to_uuid values value var_pop var_samp
  variance week weekday weekofyear weight_string x y year yearweek
`);
/** Words after which a bracket is no call. */
const operators = setOf(`
  in and or not xor as on when then else case between like regexp rlike is div any all some using exists key index by over
  where having select from join distinct union end binary set return into partition interval if elseif while until limit
  unsigned signed decimal datetime char varchar nchar json date time year double float int integer bigint smallint tinyint
  mediumint text tinytext mediumtext longtext blob tinyblob mediumblob longblob varbinary numeric real bit enum
`);
/** Words that no expression of a dump has, wherever they stand. */
const never = setOf(`
  outfile dumpfile load_file infile procedure call execute prepare deallocate grant revoke create drop alter rename truncate
  handler lock unlock kill shutdown install uninstall load flush reset purge change start stop savepoint rollback commit
  analyze explain describe help use global persist persist_only password restart binlog cache xa optimize repair clone backup
  import
`);
/** Words before the name of a table. */
const beforeTable = setOf('from join update into table straight_join');
/** Words that may be between such a word and the name. */
const beforeName = setOf('low_priority ignore quick delayed high_priority lateral');

/** Words after which no more tables are listed. */
const endsList = setOf('where group having order limit set select union window');
/** What a SET may set that is no variable and no column. */
const setsOther = setOf(
  'role default statement resource transaction names charset character password global session local persist',
);

/** What an expression may have besides values. */
export interface Liberties {
  /** Reads of tables: those that are named are put here. */
  readonly tables?: Set<string>;
  /** The names that may be before a full stop besides those of tables: rows of a trigger. */
  readonly rows?: ReadonlySet<string>;
  /** Whether variables of its own may be named with an at sign. */
  readonly variables?: boolean;
  /** Whether statements may be in it, ended by semicolons: the body of a program. */
  readonly statements?: boolean;
}

/** Goes through an expression in brackets, the opening one of which comes next. @throws NotAllowed */
export function inBrackets(cursor: Cursor, liberties: Liberties = {}): void {
  cursor.needMark('(');
  walk(cursor, liberties, 1);
}

/** Goes through all that is left. @throws NotAllowed */
export function toTheEnd(cursor: Cursor, liberties: Liberties): void {
  walk(cursor, liberties, 0);
}

/** The names of tables and their aliases, and what stands before a full stop: each of the second must be one of the first. */
interface Scope {
  readonly names: Set<string>;
  readonly paths: Set<string>;
}

/** Goes through tokens and looks at every name of a table, every call, and every word that is none of an expression. */
function walk(cursor: Cursor, liberties: Liberties, from: number): void {
  let depth = from;
  /** For each bracket that is open, whether commas around it are between tables. */
  const lists: boolean[] = [];
  let isList = false;
  /** Whether a bracket that comes next is around tables. */
  let opensTables = false;
  let verb = '';
  let before = '';
  const scope: Scope = { names: new Set(liberties.rows), paths: new Set() };
  /** Whether a name that comes next is one for what was before it. */
  let mayBeAlias = false;
  const table = () => {
    opensTables = !tableOf(cursor, liberties, scope);
    mayBeAlias = true;
    isList = true;
  };
  while (!cursor.isAtEnd) {
    const word = cursor.peek();
    const mark = cursor.peekMark();
    if (mayBeAlias && word !== 'as') {
      if (mark === '' && !cursor.isString) scope.names.add(cursor.text().toLowerCase());
      mayBeAlias = false;
    }
    if (mark === '(') {
      lists.push(isList);
      isList = false;
      cursor.skip();
      depth++;
      if (opensTables) table();
    } else if (mark === ')') {
      isList = lists.pop() ?? false;
      cursor.skip();
      mayBeAlias = true;
      if (--depth === 0 && from > 0) return;
      if (depth < 0) throw new NotAllowed('a bracket ends that has not begun');
    } else if (mark === ',' && isList) {
      cursor.skip();
      table();
    } else if (beforeTable.has(word) && cursor.peekMark(1) !== '(') {
      cursor.skip();
      // `ON DUPLICATE KEY UPDATE` and `FOR UPDATE` name none, and a SELECT puts values into variables.
      const isOther = word === 'update' ? /^(?:key|for)$/.test(before) : word === 'into' && verb === 'select';
      if (!isOther && readsTables(liberties, word)) {
        table();
        isList = word !== 'into' && word !== 'table';
      }
    } else if (word === 'from' || word === 'join') {
      // A bracket comes next.
      cursor.skip();
      if (readsTables(liberties, word)) {
        opensTables = true;
        isList = true;
      }
    } else {
      if (endsList.has(word)) isList = false;
      const isVerb = /^(?:select|insert|replace|delete)$/.test(word) && cursor.peekMark(1) !== '(';
      if (isVerb) verb = word;
      const isUsing = word === 'using' && verb === 'delete' && cursor.peekMark(1) !== '(';
      if (isUsing || (isVerb && /^(?:insert|replace)$/.test(word))) {
        cursor.skip();
        while (cursor.oneOf(beforeName)) {
          // Nothing follows from it.
        }
        // `INTO` may be left out.
        if (cursor.peek() !== 'into' && readsTables(liberties, word)) {
          table();
          isList = isUsing;
        }
        before = word;
        continue;
      }
      if (!isAfter(before, word)) throw cursor.unknown();
      opensTables = false;
      one(cursor, liberties, scope, word, mark);
    }
    before = word;
  }
  if (depth !== 0) throw new NotAllowed('a bracket has no end');
  for (const name of scope.paths)
    if (!scope.names.has(name)) throw new NotAllowed('it names something of another database');
}

/** @throws NotAllowed where tables are read that may not be */
function readsTables({ tables }: Liberties, word: string): boolean {
  if (tables) return true;
  // In `trim(both 'x' from y)` nothing is read.
  if (word === 'from') return false;
  throw new NotAllowed('it reads tables');
}

/** Whether a word may come after another: what is set must be a value, and no sequence may count. */
function isAfter(before: string, word: string): boolean {
  if (before === 'set') return !setsOther.has(word);
  return !(word === 'for' && before === 'value');
}

/** Takes a table of a list, and its alias. @returns false where a bracket or a query comes */
function tableOf(cursor: Cursor, { tables }: Liberties, scope: Scope): boolean {
  while (cursor.oneOf(beforeName)) {
    // Nothing follows from it.
  }
  if (cursor.peekMark() === '(') return false;
  if (cursor.isString || /^(?:select|table|values|with)$/.test(cursor.peek())) return true;
  const name = cursor.name();
  if (name.toLowerCase() !== 'dual') tables?.add(name);
  scope.names.add(name.toLowerCase());
  return true;
}

function one(
  cursor: Cursor,
  { rows, variables, statements, tables }: Liberties,
  scope: Scope,
  word: string,
  mark: string,
): void {
  if (mark !== '') {
    if (mark === '@') {
      cursor.skip();
      if (!variables || cursor.peekMark() === '@') throw new NotAllowed('it reads a variable of the server');
      cursor.name();
      return;
    }
    if (mark === ';' && !statements) throw new NotAllowed('another statement follows');
    if (!/^[-+*/%=<>!|&^~,.;:]$/.test(mark)) throw cursor.unknown();
    cursor.skip();
    return;
  }
  if (word === '') {
    // A string, or a quoted name.
    if (cursor.isString) cursor.skip();
    else pathOf(cursor, scope, rows, tables !== undefined);
    return;
  }
  if (never.has(word)) throw cursor.unknown();
  const isCall = cursor.peekMark(1) === '(';
  if (isCall && !functions.has(word) && !operators.has(word))
    throw new NotAllowed(`it calls "${word.slice(0, 40)}"`);
  if (/^\d/.test(word)) {
    if (!cursor.number()) cursor.skip();
    return;
  }
  if (isCall) cursor.skip();
  else pathOf(cursor, scope, rows, tables !== undefined);
}

/** A name, perhaps with that of a table before it. */
function pathOf(
  cursor: Cursor,
  scope: Scope,
  rows: ReadonlySet<string> | undefined,
  readsTables: boolean,
): void {
  const first = cursor.anyName().toLowerCase();
  if (!cursor.mark('.')) return;
  if (!readsTables && !rows?.has(first)) throw new NotAllowed('it names something of another table');
  scope.paths.add(first);
  if (cursor.mark('*')) return;
  cursor.anyName();
  if (cursor.peekMark() === '.') throw new NotAllowed('it names something of another database');
  if (cursor.peekMark() === '(') throw new NotAllowed('it calls a program of another database');
}

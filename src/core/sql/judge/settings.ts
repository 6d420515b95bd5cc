import type { Dialect } from '../literal.js';
import { type Cursor, NotAllowed } from './cursor.js';

const setOf = (text: string): ReadonlySet<string> => new Set(text.trim().split(/\s+/));

/** Settings of the session that dumps make, and that change nothing but how the dump is read. */
const settings = setOf(`
  autocommit big_tables character_set_client character_set_connection character_set_results collation_connection
  default_storage_engine default_week_format div_precision_increment foreign_key_checks group_concat_max_len
  innodb_strict_mode insert_id interactive_timeout lc_messages lc_time_names lock_wait_timeout max_statement_time
  net_read_timeout net_write_timeout note_verbosity old_alter_table old_mode optimizer_switch read_buffer_size
  show_create_table_verbosity sort_buffer_size sql_auto_is_null sql_big_selects sql_mode sql_notes sql_quote_show_create
  sql_safe_updates sql_warnings storage_engine tablespace time_zone timestamp tmp_table_size transaction_isolation
  tx_isolation unique_checks updatable_views_with_limit wait_timeout
`);
/** Character sets in which a quote and a backslash are what they are in ASCII, wherever they stand. */
const charsets = setOf(`
  armscii8 ascii binary cp1250 cp1251 cp1256 cp1257 cp850 cp852 cp866 dec8 eucjpms euckr gb2312 geostd8 greek hebrew hp8
  keybcs2 koi8r koi8u latin1 latin2 latin5 latin7 macce macroman tis620 ujis utf8 utf8mb3 utf8mb4
`);
const modes = setOf(`
  allow_invalid_dates ansi ansi_quotes db2 empty_string_is_null error_for_division_by_zero high_not_precedence
  ignore_bad_table_options ignore_space maxdb mssql mysql323 mysql40 no_auto_create_user no_auto_value_on_zero
  no_backslash_escapes no_dir_in_create no_engine_substitution no_field_options no_key_options no_table_options
  no_unsigned_subtraction no_zero_date no_zero_in_date only_full_group_by oracle pad_char_to_full_length pipes_as_concat
  postgresql real_as_float simultaneous_assignment strict_all_tables strict_trans_tables time_round_fractional
  time_truncate_fractional traditional
`);

/** Whether a character set may be that of a dump. */
export function isSafeCharset(name: string): boolean {
  return charsets.has(name.toLowerCase());
}

/** The settings of a session as a dump makes them, as far as they say how it is to be read. */
export class SessionSettings {
  dialect: Dialect = { backslash: true };
  /** Variables in which the SQL mode was saved. */
  private readonly saved = new Map<string, Dialect>();

  /**
   * Takes a SET, of which the word itself is taken.
   * @param isForAll whether every server takes it
   * @throws NotAllowed
   */
  take(cursor: Cursor, isForAll: boolean): void {
    const next: { dialect: Dialect } = { dialect: this.dialect };
    const saves = new Map<string, Dialect>();
    do this.assignment(cursor, next, saves, isForAll);
    while (cursor.mark(','));
    cursor.end();
    this.dialect = next.dialect;
    for (const [name, dialect] of saves) this.saved.set(name, dialect);
  }

  private assignment(
    cursor: Cursor,
    next: { dialect: Dialect },
    saves: Map<string, Dialect>,
    isForAll: boolean,
  ): void {
    if (cursor.words('names') || cursor.words('charset') || cursor.words('character', 'set')) {
      if (!cursor.words('default')) charsetOf(cursor);
      if (cursor.words('collate')) cursor.anyName();
      if (!isForAll) throw notForAll;
      return;
    }
    if (cursor.peekMark() === '@' && cursor.peekMark(1) !== '@') {
      this.saving(cursor, saves);
      return;
    }
    const name = settingOf(cursor);
    if (!settings.has(name)) throw new NotAllowed(`it sets "${name.slice(0, 40)}"`);
    if (!cursor.mark(':')) cursor.needMark('=');
    else cursor.needMark('=');
    if (name === 'sql_mode') {
      next.dialect = this.mode(cursor);
      if (!isForAll) throw notForAll;
    } else if (/^character_set_|^collation_/.test(name)) {
      if (cursor.peekMark() === '@') value(cursor);
      else if (name === 'collation_connection') cursor.anyName();
      else charsetOf(cursor);
      if (!isForAll) throw notForAll;
    } else value(cursor);
  }

  /** `@saved = @@setting`. */
  private saving(cursor: Cursor, saves: Map<string, Dialect>): void {
    cursor.needMark('@');
    const name = cursor.name().toLowerCase();
    if (!cursor.mark(':')) cursor.needMark('=');
    else cursor.needMark('=');
    const from = settingOf(cursor, true);
    if (!settings.has(from)) throw new NotAllowed(`it reads "${from.slice(0, 40)}"`);
    if (from === 'sql_mode') saves.set(name, this.dialect);
  }

  private mode(cursor: Cursor): Dialect {
    if (cursor.isString) {
      const list = cursor
        .string()
        .toLowerCase()
        .split(',')
        .map(one => one.trim())
        .filter(one => one !== '');
      const unknown = list.find(one => !modes.has(one));
      if (unknown !== undefined) throw new NotAllowed(`it sets the SQL mode "${unknown.slice(0, 40)}"`);
      return { backslash: !list.includes('no_backslash_escapes') };
    }
    if (cursor.words('default') || cursor.number())
      throw new NotAllowed('it sets an SQL mode that nobody can read');
    const isEither = cursor.words('ifnull');
    if (isEither) cursor.needMark('(');
    cursor.needMark('@');
    const saved = this.saved.get(cursor.name().toLowerCase());
    if (isEither) {
      cursor.needMark(',');
      if (cursor.string() !== '') throw cursor.unknown();
      cursor.needMark(')');
    }
    // A part of a dump sets back what another part has saved.
    return saved ?? { backslash: true };
  }
}

const notForAll = new NotAllowed('only some servers would take a setting on which the rest depends');

/** The name of a setting of the session. */
function settingOf(cursor: Cursor, isRead = false): string {
  if (cursor.mark('@')) {
    cursor.needMark('@');
    if (/^(?:session|local)$/.test(cursor.peek()) && cursor.peekMark(1) === '.') {
      cursor.skip();
      cursor.skip();
    }
    return cursor.name().toLowerCase();
  }
  if (isRead) throw cursor.unknown();
  if (!cursor.words('session')) cursor.words('local');
  return cursor.name().toLowerCase();
}

/** A literal, a word, what was saved, or what the setting is. */
function value(cursor: Cursor): void {
  const isEither = cursor.words('ifnull');
  if (isEither) cursor.needMark('(');
  if (cursor.mark('@')) {
    if (cursor.peekMark() === '@') {
      cursor.skip();
      if (/^(?:session|local|global)$/.test(cursor.peek()) && cursor.peekMark(1) === '.') {
        cursor.skip();
        cursor.skip();
      }
      if (!settings.has(cursor.name().toLowerCase()))
        throw new NotAllowed('it reads a setting of the server');
    } else cursor.name();
  } else if (!cursor.literal()) cursor.name();
  if (!isEither) return;
  cursor.needMark(',');
  if (!cursor.literal()) throw cursor.unknown();
  cursor.needMark(')');
}

function charsetOf(cursor: Cursor): void {
  const name = cursor.isString ? cursor.string() : cursor.name();
  if (!isSafeCharset(name))
    throw new NotAllowed(
      `it sets the character set ${name.slice(0, 40)}, in which a dump cannot be read safely`,
    );
}

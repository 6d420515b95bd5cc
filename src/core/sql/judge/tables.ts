import { type Cursor, NotAllowed } from './cursor.js';
import { inBrackets } from './expressions.js';

const setOf = (text: string): ReadonlySet<string> => new Set(text.trim().split(/\s+/));

const types = setOf(`
  bigint binary bit blob bool boolean char character date datetime dec decimal double enum fixed float geomcollection
  geometry geometrycollection inet4 inet6 int int1 int2 int3 int4 int8 integer json linestring long longblob longtext
  mediumblob mediumint mediumtext multilinestring multipoint multipolygon nchar numeric nvarchar point polygon real serial
  set smallint text time timestamp tinyblob tinyint tinytext uuid varbinary varchar vector year
`);
/** Words after a type that stand alone. */
const alone = setOf(`
  unsigned signed zerofill binary ascii unicode byte precision varying null auto_increment unique key primary virtual stored
  persistent invisible visible compressed
`);
const engines = setOf('innodb myisam aria memory heap archive rocksdb tokudb maria isam ndb ndbcluster');
/** Options of a table whose value is a word, a number or a string, and means nothing beyond the table. */
const options = setOf(`
  auto_increment avg_row_length checksum comment delay_key_write encryption_key_id key_block_size max_rows min_rows
  pack_keys page_checksum page_compressed page_compression_level row_format sequence stats_auto_recalc stats_persistent
  stats_sample_pages table_checksum transactional compression autoextend_size encryption
`);
/** Those of an index, and of a partition. */
const indexOptions = setOf('using key_block_size comment visible invisible ignored');

/** The elements of a CREATE TABLE and what comes after them. @param tables gets the names of those that it refers to */
export function tableDefinition(cursor: Cursor, tables: Set<string>): void {
  cursor.list(() => element(cursor, tables));
  tableOptions(cursor);
  if (cursor.words('partition', 'by')) partitions(cursor);
  cursor.end();
}

/** What is changed in an ALTER TABLE. */
export function alterations(cursor: Cursor, tables: Set<string>): void {
  do alteration(cursor, tables);
  while (cursor.mark(','));
  cursor.end();
}

function alteration(cursor: Cursor, tables: Set<string>): void {
  if (cursor.words('disable', 'keys') || cursor.words('enable', 'keys')) return;
  if (cursor.words('add')) {
    cursor.words('column');
    cursor.words('if', 'not', 'exists');
    if (cursor.peekMark() === '(') cursor.list(() => element(cursor, tables));
    else element(cursor, tables);
  } else if (cursor.words('modify')) {
    cursor.words('column');
    column(cursor, tables);
  } else if (cursor.words('change')) {
    cursor.words('column');
    cursor.name();
    column(cursor, tables);
  } else if (!tableOption(cursor)) throw cursor.unknown();
  if (cursor.words('after')) cursor.name();
  else cursor.words('first');
}

function element(cursor: Cursor, tables: Set<string>): void {
  if (cursor.words('constraint')) {
    if (!/^(?:primary|unique|foreign|check)$/.test(cursor.peek())) cursor.name();
    if (!constraint(cursor, tables)) throw cursor.unknown();
    return;
  }
  if (cursor.words('period', 'for', 'system_time')) cursor.list(() => cursor.name());
  else if (!constraint(cursor, tables)) column(cursor, tables);
}

/** A key, a reference or a check; false where a column comes. */
function constraint(cursor: Cursor, tables: Set<string>): boolean {
  if (cursor.words('primary', 'key')) return key(cursor);
  if (cursor.words('foreign', 'key')) {
    if (cursor.peekMark() !== '(') cursor.name();
    cursor.list(() => cursor.name());
    references(cursor, tables);
    return true;
  }
  if (cursor.peek() === 'check' && cursor.peekMark(1) === '(') {
    cursor.skip();
    check(cursor);
    return true;
  }
  const isKind = /^(?:unique|fulltext|spatial)$/.test(cursor.peek());
  const isKey = /^(?:key|index)$/.test(cursor.peek(isKind ? 1 : 0));
  // A column may have the name of a kind, but then its type follows.
  if (isKind && !isKey && types.has(cursor.peek(1)) && cursor.peekMark(1) === '') return false;
  if (!isKind && !isKey) return false;
  if (isKind) cursor.skip();
  if (isKey) cursor.skip();
  return key(cursor);
}

function key(cursor: Cursor): boolean {
  if (cursor.words('if', 'not', 'exists')) throw cursor.unknown();
  if (cursor.peekMark() !== '(' && cursor.peek() !== 'using') cursor.name();
  if (cursor.words('using')) cursor.anyName();
  cursor.list(() => {
    if (cursor.peekMark() === '(') inBrackets(cursor);
    else {
      cursor.name();
      if (cursor.peekMark() === '(') cursor.list(() => void cursor.number());
    }
    if (!cursor.words('asc')) cursor.words('desc');
  });
  for (;;) {
    const option = cursor.oneOf(indexOptions);
    if (option === undefined && !cursor.words('with', 'parser')) return true;
    if (option === 'visible' || option === 'invisible') continue;
    cursor.mark('=');
    if (!cursor.literal()) cursor.name();
  }
}

function references(cursor: Cursor, tables: Set<string>): void {
  cursor.need('references');
  tables.add(cursor.name());
  if (cursor.peekMark() === '(') cursor.list(() => cursor.name());
  if (cursor.words('match')) cursor.name();
  while (cursor.words('on')) {
    if (!cursor.words('delete')) cursor.need('update');
    if (!cursor.words('set', 'null') && !cursor.words('set', 'default') && !cursor.words('no', 'action'))
      if (!cursor.words('restrict')) cursor.need('cascade');
  }
}

function check(cursor: Cursor): void {
  inBrackets(cursor);
  cursor.words('not');
  cursor.words('enforced');
}

function column(cursor: Cursor, tables: Set<string>): void {
  cursor.name();
  if (!cursor.oneOf(types)) throw cursor.unknown();
  if (cursor.words('varying')) cursor.words('byte');
  if (cursor.peekMark() === '(') {
    cursor.list(() => {
      if (!cursor.literal()) throw cursor.unknown();
    });
  }
  while (attribute(cursor, tables)) {
    // Until there is none.
  }
}

function attribute(cursor: Cursor, tables: Set<string>): boolean {
  if (cursor.words('not', 'null') || cursor.oneOf(alone)) return true;
  if (cursor.words('default')) return defaultOf(cursor);
  if (cursor.words('on', 'update')) return momentOf(cursor);
  if (cursor.words('comment')) {
    cursor.string();
    return true;
  }
  if (cursor.words('collate') || cursor.words('charset') || cursor.words('character', 'set')) {
    cursor.mark('=');
    cursor.anyName();
    return true;
  }
  if (cursor.words('generated', 'always', 'as')) {
    if (cursor.words('row')) {
      if (!cursor.words('start')) cursor.need('end');
    } else inBrackets(cursor);
    return true;
  }
  if (cursor.words('as')) {
    inBrackets(cursor);
    return true;
  }
  if (cursor.words('constraint')) {
    if (cursor.peek() !== 'check') cursor.name();
    cursor.need('check');
    check(cursor);
    return true;
  }
  if (cursor.words('check')) {
    check(cursor);
    return true;
  }
  if (cursor.words('srid') || cursor.words('ref_system_id')) {
    cursor.mark('=');
    return cursor.number();
  }
  if (cursor.words('column_format') || cursor.words('storage')) {
    cursor.anyName();
    return true;
  }
  if (cursor.words('without', 'system', 'versioning') || cursor.words('with', 'system', 'versioning'))
    return true;
  if (cursor.peek() !== 'references') return false;
  references(cursor, tables);
  return true;
}

function defaultOf(cursor: Cursor): boolean {
  if (cursor.peekMark() === '(') inBrackets(cursor);
  else if (cursor.peekMark(1) === '(' && !momentNames.has(cursor.peek())) {
    // MariaDB writes an expression without brackets around it.
    const word = cursor.peek();
    if (
      !/^(?:uuid|json_array|json_object|unix_timestamp|curdate|curtime|concat|rand|sys_guid|user|cast|unhex)$/.test(
        word,
      )
    )
      throw new NotAllowed(`it calls "${word.slice(0, 40)}"`);
    cursor.skip();
    inBrackets(cursor);
  } else if (!cursor.literal()) return momentOf(cursor);
  return true;
}

const momentNames = setOf(
  'current_timestamp now localtime localtimestamp current_date curdate current_time curtime',
);

function momentOf(cursor: Cursor): boolean {
  if (!cursor.oneOf(momentNames)) throw cursor.unknown();
  if (cursor.mark('(')) {
    cursor.number();
    cursor.needMark(')');
  }
  return true;
}

/** Options, between which commas may be. */
function tableOptions(cursor: Cursor): void {
  while (tableOption(cursor)) cursor.mark(',');
}

/** Options of a partition; a comma ends them. */
function partitionOptions(cursor: Cursor): void {
  while (tableOption(cursor)) {
    // Until there is none.
  }
}

function tableOption(cursor: Cursor): boolean {
  if (cursor.words('engine') || cursor.words('type')) {
    cursor.mark('=');
    const engine = cursor.anyName();
    if (!engines.has(engine.toLowerCase()))
      throw new NotAllowed(`its engine ${engine.slice(0, 40)} may hold its rows elsewhere`);
    return true;
  }
  const isDefault = cursor.words('default');
  if (cursor.words('charset') || cursor.words('character', 'set') || cursor.words('collate')) {
    cursor.mark('=');
    cursor.anyName();
    return true;
  }
  if (isDefault) throw cursor.unknown();
  if (cursor.words('with', 'system', 'versioning')) return true;
  const isQuoted = cursor.peek() === '';
  const name = isQuoted ? undefined : cursor.oneOf(options);
  if (name === undefined) return isQuoted && quotedOption(cursor);
  cursor.mark('=');
  if (!cursor.literal()) cursor.anyName();
  return true;
}

/** MariaDB writes options of an engine with quotes around their names. */
function quotedOption(cursor: Cursor): boolean {
  if (cursor.isAtEnd || cursor.isString || cursor.peekMark() !== '') return false;
  const name = cursor.name().toLowerCase();
  if (!/^(?:page_compressed|page_compression_level|encrypted|encryption_key_id)$/.test(name))
    throw cursor.unknown();
  cursor.mark('=');
  if (!cursor.literal()) cursor.anyName();
  return true;
}

/** `PARTITION BY …`, of which the first words are taken. */
function partitions(cursor: Cursor): void {
  partitioning(cursor);
  if (cursor.words('partitions')) cursor.number();
  if (cursor.words('subpartition', 'by')) {
    partitioning(cursor);
    if (cursor.words('subpartitions')) cursor.number();
  }
  if (cursor.peekMark() !== '(') return;
  cursor.list(() => {
    cursor.need('partition');
    cursor.name();
    if (cursor.words('values', 'less', 'than')) {
      if (!cursor.words('maxvalue')) inBrackets(cursor);
    } else if (cursor.words('values', 'in')) inBrackets(cursor);
    partitionOptions(cursor);
    if (cursor.peekMark() === '(')
      cursor.list(() => {
        cursor.need('subpartition');
        cursor.name();
        partitionOptions(cursor);
      });
  });
}

function partitioning(cursor: Cursor): void {
  cursor.words('linear');
  if (cursor.words('key')) {
    if (cursor.words('algorithm')) {
      cursor.needMark('=');
      cursor.number();
    }
    if (cursor.peekMark(1) === ')') {
      cursor.needMark('(');
      cursor.needMark(')');
    } else cursor.list(() => cursor.name());
  } else if (cursor.words('hash')) inBrackets(cursor);
  else {
    if (!cursor.words('range')) cursor.need('list');
    cursor.words('columns');
    inBrackets(cursor);
  }
}

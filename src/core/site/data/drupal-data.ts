import { type ByteString, bytesOfText } from '../../bytes.js';
import { decodeSerialized } from '../../serialized/decode.js';
import { encodeSerialized } from '../../serialized/encode.js';
import { type DataEdit, type DataWish, emptied, hashLike } from './data-edits.js';

/** Its sessions and caches, what it calls itself, and the administrator. */
export function dataEdits(wish: DataWish): DataEdit[] {
  const { prefix, tables } = wish;
  const own = tables.filter(name => name.startsWith(prefix)).map(name => name.slice(prefix.length));
  const edits = own
    .filter(name => /^(?:sessions|cache_\w+|cachetags)$/.test(name))
    .map(name =>
      name === 'sessions'
        ? emptied('Sessions ended: everybody logs in again', `${prefix}${name}`, 'sid')
        : emptied('Caches emptied', `${prefix}${name}`, name === 'cachetags' ? 'tag' : 'cid'),
    );
  if (own.includes('config')) edits.push(...configEdits(wish));
  else if (own.includes('variable')) edits.push(...variableEdits(wish));
  // Since version 8 what is said of a user is in a table of its own.
  const users = ['users_field_data', 'users'].find(name => own.includes(name));
  if (users !== undefined) edits.push(...administratorEdits(`${prefix}${users}`, wish));
  return edits;
}

/** Name and slogan in the object `system.site` of the configuration, since version 8. */
function configEdits({ prefix, title, tagline }: DataWish): DataEdit[] {
  const edit = (what: string, name: string, to: string): DataEdit => ({
    what,
    table: `${prefix}config`,
    key: ['collection', 'name'],
    where: [
      { column: 'collection', is: '' },
      { column: 'name', is: 'system.site' },
    ],
    change: { column: 'data', to: before => withEntry(before, name, to) },
  });
  return [
    ...(title === undefined ? [] : [edit('Title set', 'name', title)]),
    ...(tagline === undefined ? [] : [edit('Slogan set', 'slogan', tagline)]),
  ];
}

/** A serialized array with one of its entries changed; undefined of anything else. */
function withEntry(value: ByteString, name: string, to: string): ByteString | undefined {
  const decoded = decodeSerialized(value);
  if (typeof decoded !== 'object' || decoded === null) return undefined;
  return encodeSerialized({ ...decoded, [name]: to });
}

/** The same as variables, up to version 7. */
function variableEdits({ prefix, title, tagline }: DataWish): DataEdit[] {
  const edit = (what: string, name: string, to: string): DataEdit => ({
    what,
    table: `${prefix}variable`,
    key: ['name'],
    where: [{ column: 'name', is: name }],
    change: { column: 'value', to: () => encodeSerialized(to) },
  });
  return [
    ...(title === undefined ? [] : [edit('Title set', 'site_name', title)]),
    ...(tagline === undefined ? [] : [edit('Slogan set', 'site_slogan', tagline)]),
  ];
}

function administratorEdits(table: string, { administrator, random }: DataWish): DataEdit[] {
  if (!administrator) return [];
  const { login, mail, password } = administrator;
  const edit = (what: string, column: string, to: (before: ByteString) => ByteString): DataEdit => ({
    what,
    table,
    key: table.endsWith('users_field_data') ? ['uid', 'langcode'] : ['uid'],
    where: [{ column: 'name', is: login }],
    change: { column, to },
    secret: column === 'pass',
  });
  return [
    ...(mail === undefined
      ? []
      : [edit('Mail address of the administrator set', 'mail', () => bytesOfText(mail))]),
    ...(password === undefined
      ? []
      : [edit('Password of the administrator set', 'pass', before => hashLike(before, password, random))]),
  ];
}

import { pbkdf2Sync } from 'node:crypto';
import { bytesOfText } from '../../bytes.js';
import { type DataEdit, type DataWish, emptied } from './data-edits.js';

/** Its caches, which hold sessions too, and the administrator; its name is in the configuration. */
export function dataEdits({ prefix, tables, administrator, random }: DataWish): DataEdit[] {
  const has = (name: string) => tables.includes(`${prefix}${name}`);
  const edits: DataEdit[] = [];
  if (has('objectcache'))
    edits.push(emptied('Caches and sessions emptied', `${prefix}objectcache`, 'keyname'));
  if (!administrator || !has('user')) return edits;
  const { login, mail, password } = administrator;
  const user = (what: string, column: string, to: string, secret = false): DataEdit => ({
    what,
    table: `${prefix}user`,
    key: ['user_id'],
    // A name begins with a large letter, whatever is typed.
    where: [{ column: 'user_name', is: login.charAt(0).toUpperCase() + login.slice(1) }],
    change: { column, to: () => bytesOfText(to) },
    secret,
  });
  if (mail !== undefined) edits.push(user('Mail address of the administrator set', 'user_email', mail));
  if (password !== undefined)
    edits.push(user('Password of the administrator set', 'user_password', wikiHash(password, random), true));
  return edits;
}

const rounds = 30_000;
const hashBytes = 64;

/** A password's hash as such a site writes it: https://www.mediawiki.org/wiki/Manual:User_table#user_password */
function wikiHash(password: string, random: DataWish['random']): string {
  const salt = random(16);
  const hash = pbkdf2Sync(password, salt, rounds, hashBytes, 'sha512');
  return `:pbkdf2:sha512:${rounds}:${hashBytes}:${salt.toString('base64')}:${hash.toString('base64')}`;
}

import { pbkdf2Sync } from 'node:crypto';
import { type Address, addressPath } from '../../address/address.js';
import { asBytes, type ByteString, bytesOfText } from '../../bytes.js';
import { type DataEdit, type DataWish, emptied } from './data-edits.js';

/** The index of external links, its caches, which hold sessions too, and the administrator; its name is in the configuration. */
export function dataEdits(wish: DataWish): DataEdit[] {
  const { prefix, tables, administrator, random } = wish;
  const has = (name: string) => tables.includes(`${prefix}${name}`);
  const edits: DataEdit[] = has('externallinks') ? externalLinkEdits(wish) : [];
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

/**
 * The index by which links to a host are found: the host's labels from the last to the first, each with a dot after it
 * (`https://example.saltmarsh.club./site/`). Older sites have it in one column, newer ones the host and the path in two.
 * https://www.mediawiki.org/wiki/Manual:Externallinks_table
 */
function externalLinkEdits({ prefix, oldAddresses, newAddress }: DataWish): DataEdit[] {
  const table = `${prefix}externallinks`;
  const [next, nextPath] = [indexOf(newAddress, newAddress.scheme), addressPath(newAddress)];
  const edit = (what: string, where: DataEdit['where'], change: DataEdit['change']): DataEdit => ({
    what,
    table,
    key: ['el_id'],
    where,
    change,
  });
  return oldAddresses.flatMap(old => {
    const path = addressPath(old);
    const before = [indexOf(old, 'https'), indexOf(old, 'http')];
    const moved = (at: string): string | undefined => {
      const rest = at.startsWith(path) ? at.slice(path.length) : undefined;
      if (rest === undefined || (path !== '' && !/^(?:[/?#]|$)/.test(rest))) return undefined;
      return nextPath + rest || '/';
    };
    const whole = (value: string): ByteString | undefined => {
      const host = before.find(one => value.startsWith(one) && /^(?:[/?#]|$)/.test(value.slice(one.length)));
      const at = host === undefined ? undefined : moved(value.slice(host.length));
      return at === undefined ? undefined : asBytes(next + at);
    };
    const like = before.map(one => `${one.replace(/[%_\\]/g, '\\$&')}%`);
    const [inOne, isOld] = [
      { column: 'el_index', like },
      { column: 'el_to_domain_index', like: before },
    ];
    // Between the two edits of one link, its host is one that no link can have.
    const between = `${next}/`;
    const isBetween = { column: 'el_to_domain_index', is: between };
    return [
      edit('Index of external links moved (its beginning)', [inOne], {
        column: 'el_index_60',
        from: 'el_index',
        to: value => whole(value)?.slice(0, 60) as ByteString | undefined,
      }),
      edit('Index of external links moved', [inOne], { column: 'el_index', to: whole }),
      edit('External links: hosts in the index moved', [isOld], {
        column: 'el_to_domain_index',
        from: 'el_to_path',
        to: at => (moved(at) === undefined ? undefined : asBytes(path === nextPath ? next : between)),
      }),
      ...(path === nextPath
        ? []
        : [
            edit('External links: paths in the index moved', [isBetween], {
              column: 'el_to_path',
              to: at => {
                const to = moved(at);
                return to === undefined ? undefined : asBytes(to);
              },
            }),
            edit('External links: hosts in the index completed', [isBetween], {
              column: 'el_to_domain_index',
              to: () => asBytes(next),
            }),
          ]),
    ];
  });
}

/** The beginning of an index entry: scheme, host and port. */
function indexOf({ host, port }: Address, scheme: string): string {
  return `${scheme}://${host.split('.').reverse().join('.')}.${port === undefined ? '' : `:${port}`}`;
}

const rounds = 30_000;
const hashBytes = 64;

/** A password's hash as such a site writes it: https://www.mediawiki.org/wiki/Manual:User_table#user_password */
function wikiHash(password: string, random: DataWish['random']): string {
  const salt = random(16);
  const hash = pbkdf2Sync(password, salt, rounds, hashBytes, 'sha512');
  return `:pbkdf2:sha512:${rounds}:${hashBytes}:${salt.toString('base64')}:${hash.toString('base64')}`;
}

import { addressPath, formatAddress } from '../../address/address.js';
import { type ByteString, bytesOfText, textOf } from '../../bytes.js';
import { decodeSerialized } from '../../serialized/decode.js';
import { encodeSerialized } from '../../serialized/encode.js';
import { type Condition, type DataEdit, type DataWish, portableHash } from './data-edits.js';

/** What is corrected in the tables of a site, or of each site of a network. */
export function wordpressEdits(wish: DataWish): DataEdit[] {
  const { prefix, tables } = wish;
  const own = tables.filter(name => name.startsWith(prefix)).map(name => name.slice(prefix.length));
  const options = own.filter(name => /^(?:\d+_)?options$/.test(name));
  const edits = options.flatMap(name => optionEdits(wish, prefix + name, name === 'options'));
  if (own.includes('usermeta')) {
    edits.push({
      what: 'Sessions ended: everybody logs in again',
      table: `${prefix}usermeta`,
      key: ['umeta_id'],
      where: [{ column: 'meta_key', is: 'session_tokens' }],
      change: { remove: true },
      secret: true,
    });
  }
  if (own.includes('sitemeta')) edits.push(...networkOptionEdits(wish));
  if (own.includes('blogs')) edits.push(...networkEdits(wish, 'blogs', 'blog_id'));
  if (own.includes('site')) edits.push(...networkEdits(wish, 'site', 'id'));
  if (own.includes('users')) edits.push(...administratorEdits(wish));
  return edits;
}

function optionEdits(wish: DataWish, table: string, isMain: boolean): DataEdit[] {
  const option = (name: string): Condition[] => [{ column: 'option_name', is: name }];
  const set = (what: string, name: string, to: (before: ByteString) => ByteString | undefined): DataEdit => ({
    what,
    table,
    key: ['option_id'],
    where: option(name),
    change: { column: 'option_value', to },
  });
  const remove = (what: string, where: readonly Condition[]): DataEdit => ({
    what,
    table,
    key: ['option_id'],
    where,
    change: { remove: true },
  });
  const address = formatAddress(wish.newAddress);
  const edits: DataEdit[] = [];
  if (isMain) {
    edits.push(
      set('Home address set', 'home', () => bytesOfText(address)),
      // The program may be in a folder below the home address.
      set('Site address set', 'siteurl', before =>
        before === address || before.startsWith(`${address}/`) ? undefined : bytesOfText(address),
      ),
    );
  }
  edits.push(
    remove('Permalink rules dropped, so that links work at once', option('rewrite_rules')),
    remove('Transients emptied', [
      { column: 'option_name', like: ['\\_transient\\_%', '\\_site\\_transient\\_%'] },
    ]),
    {
      ...set('Extensions deactivated', 'active_plugins', before => withoutHeld(before, wish)),
      heldBack: (before, after) => listIn(before).filter(name => !listIn(after).includes(name)),
    },
  );
  if (wish.searchEngines !== 'keep') {
    const shown = wish.searchEngines === 'show';
    edits.push(
      set(shown ? 'Search engines let in' : 'Search engines shut out', 'blog_public', () =>
        bytesOfText(shown ? '1' : '0'),
      ),
    );
  }
  if (!isMain) return edits;
  const { title, tagline, administrator } = wish;
  if (title !== undefined) edits.push(set('Title set', 'blogname', () => bytesOfText(title)));
  if (tagline !== undefined) edits.push(set('Tagline set', 'blogdescription', () => bytesOfText(tagline)));
  if (administrator?.mail !== undefined)
    edits.push(set('Administration address set', 'admin_email', () => bytesOfText(administrator.mail!)));
  return edits;
}

/** A serialized list of extensions without those to hold back. */
function withoutHeld(value: ByteString, { holdsBack }: DataWish): ByteString | undefined {
  const names = listIn(value);
  const kept = names.filter(name => !holdsBack(name));
  return kept.length === names.length ? undefined : encodeSerialized(kept);
}

function listIn(value: ByteString): string[] {
  const decoded = decodeSerialized(value);
  if (typeof decoded !== 'object' || decoded === null) return [];
  return Object.values(decoded).filter(one => typeof one === 'string');
}

/** Extensions that a whole network uses are the keys of a list. */
function networkOptionEdits(wish: DataWish): DataEdit[] {
  const table = `${wish.prefix}sitemeta`;
  const key = ['meta_id'];
  const keysIn = (value: ByteString) => Object.keys(decodeSerialized(value) ?? {});
  return [
    {
      what: 'Extensions of the network deactivated',
      table,
      key,
      where: [{ column: 'meta_key', is: 'active_sitewide_plugins' }],
      change: {
        column: 'meta_value',
        to(before) {
          const all = decodeSerialized(before);
          if (typeof all !== 'object' || all === null) return undefined;
          const kept = Object.entries(all).filter(([name]) => !wish.holdsBack(name));
          return kept.length === Object.keys(all).length
            ? undefined
            : encodeSerialized(Object.fromEntries(kept));
        },
      },
      heldBack: (before, after) => keysIn(before).filter(name => !keysIn(after).includes(name)),
    },
    {
      what: 'Transients of the network emptied',
      table,
      key,
      where: [{ column: 'meta_key', like: ['\\_site\\_transient\\_%'] }],
      change: { remove: true },
    },
  ];
}

/** The hosts and paths of a network's sites, each in a column of its own. */
function networkEdits({ prefix, oldAddress, newAddress }: DataWish, name: string, id: string): DataEdit[] {
  const table = `${prefix}${name}`;
  const all: Condition[] = [{ column: id, like: ['%'] }];
  const hostOf = ({ host, port }: DataWish['oldAddress']) => (port === undefined ? host : `${host}:${port}`);
  const [oldHost, newHost] = [hostOf(oldAddress), hostOf(newAddress)];
  const [oldPath, newPath] = [`${addressPath(oldAddress)}/`, `${addressPath(newAddress)}/`];
  return [
    {
      what: `Paths of the network's sites set (${name})`,
      table,
      key: [id],
      where: all,
      change: {
        column: 'path',
        to: before =>
          oldPath !== newPath && before.startsWith(oldPath)
            ? bytesOfText(newPath + textOf(before).slice(oldPath.length))
            : undefined,
      },
    },
    {
      what: `Hosts of the network's sites set (${name})`,
      table,
      key: [id],
      where: all,
      change: {
        column: 'domain',
        to(before) {
          const host = textOf(before).toLowerCase();
          if (oldHost === newHost) return undefined;
          if (host === oldHost) return bytesOfText(newHost);
          // A site under a host of its own below that of the network.
          return host.endsWith(`.${oldHost}`)
            ? bytesOfText(host.slice(0, -oldHost.length) + newHost)
            : undefined;
        },
      },
    },
  ];
}

/** A password as the login page passes it on: with a backslash before quotes and backslashes (wp_magic_quotes). */
function asItArrives(password: string): string {
  return password.replace(/['"\\\0]/g, char => `\\${char === '\0' ? '0' : char}`);
}

function administratorEdits({ prefix, administrator, random }: DataWish): DataEdit[] {
  if (!administrator) return [];
  const edit = (what: string, column: string, to: string, secret = false): DataEdit => ({
    what,
    table: `${prefix}users`,
    key: ['ID'],
    where: [{ column: 'user_login', is: administrator.login }],
    change: { column, to: () => bytesOfText(to) },
    secret,
  });
  const edits: DataEdit[] = [];
  if (administrator.mail !== undefined)
    edits.push(edit('Mail address of the administrator set', 'user_email', administrator.mail));
  if (administrator.password !== undefined)
    edits.push(
      edit(
        'Password of the administrator set',
        'user_pass',
        portableHash(asItArrives(administrator.password), random),
        true,
      ),
    );
  return edits;
}

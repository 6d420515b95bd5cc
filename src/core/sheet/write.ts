import { stringify } from 'yaml';
import { isRemotePlace } from '../files/place-url.js';
import { type DialectName, dialectNames, usualDialect } from '../redirects/dialects/dialects.js';
import { asLiteral } from './variables.js';

/** What a sheet says of getting into an account; a password is the name of a variable in `${}`. */
export interface SheetLogin {
  readonly password?: string | undefined;
  readonly key?: string | undefined;
  readonly 'host-key'?: string | undefined;
}

/** What `start` was given or found out. */
export interface SheetAnswers {
  readonly name: string;
  readonly oldAddress: string;
  readonly also: readonly string[];
  /** Whether a hatch is put at both ends, where they are reached over FTP; left out, at those whose database needs one. */
  readonly hatches?: boolean | undefined;
  /** Where the old site answers, if its address does not lead there. */
  readonly oldReach?: string | undefined;
  readonly oldFiles: string | undefined;
  readonly oldLogin?: SheetLogin | undefined;
  /** A file, or `fromConfiguration`. */
  readonly oldDump: string | undefined;
  readonly newAddress: string;
  /** Where the new site answers before the DNS leads there. */
  readonly newReach?: string | undefined;
  readonly newFiles: string | undefined;
  readonly newLogin?: SheetLogin | undefined;
  /** Whether the new host's language may be asked by a short-lived file. */
  readonly probe?: boolean | undefined;
  readonly newDump: string | undefined;
  readonly newServer: string | undefined;
  /** The variable that holds the new database's password. */
  readonly passwordVariable?: string | undefined;
  /** Whether the new database is reached over the SSH connection of the files. */
  readonly newThrough?: boolean | undefined;
  /** The size of the pieces for a web panel. */
  readonly parts?: string | undefined;
  readonly newPrefix: string | undefined;
  /** Patterns of what need not be taken, as the old site's family knows them. */
  readonly without: readonly string[];
  /** Folders of the old server and what they become. */
  readonly pairs?: readonly { readonly from: string; readonly to: string }[] | undefined;
  readonly leave: readonly string[];
  /** Whether addresses in Base64 are rewritten. */
  readonly openBase64?: boolean;
  readonly searchEngines?: string | undefined;
  /** Patterns of extensions that are held back until tidy. */
  readonly switchOff?: readonly string[] | undefined;
  readonly webServer: DialectName | undefined;
  /** Access logs of the old host. */
  readonly logs?: readonly string[];
  readonly oldRecord: string | undefined;
  readonly newRecord: string | undefined;
  /** The server of the zones, and the key that it wants (TSIG). */
  readonly dnsServer?:
    | {
        readonly url: string;
        readonly key: { readonly name: string; readonly algorithm: string; readonly secret: string };
      }
    | undefined;
  /** The authority that is asked for a certificate (ACME). */
  readonly certificate?: { readonly directory: string; readonly trust: string } | undefined;
  /** Who is asked for DNS records, if not this machine's own resolvers. */
  readonly resolvers?: readonly string[] | undefined;
}

/** In place of a dump: the database is taken from the server that the site's own configuration names. */
export const fromConfiguration = 'configuration';

/** The schema of the sheet, beside it, by which editors complete and check it. */
export const schemaFile = '.move.schema.json';

const aboutHatch = 'a PHP file by which files pass as a stream and the database is reached';

function isFtp(place: string | undefined): boolean {
  return /^ftps?:/i.test(place ?? '');
}

/** Writes a sheet with a comment at each line, so that it can be read and changed without a manual. */
export function writeSheet(a: SheetAnswers): string {
  const lines: string[] = [];
  /** A key with its comment; one without a value is written as a comment, with an example to fill in. */
  const put = (indent: number, key: string, value: unknown, comment: string, example?: string) => {
    const written =
      value === undefined ? `# ${key}: ${example ?? ''}` : `${key}: ${inline(literal(key, value))}`;
    lines.push(`${('  '.repeat(indent) + written).padEnd(58)} # ${comment}`);
  };
  const section = (key: string, comment: string) => lines.push('', `# ${comment}`, `${key}:`);

  lines.push(
    `# yaml-language-server: $schema=./${schemaFile}`,
    '# What is to be moved, from where to where. Every key is described in docs/sheet.md.',
  );
  put(0, 'name', a.name, 'names this move in reports and folders');
  section('old', 'The site as it is. It is only read.');
  put(1, 'address', a.oldAddress, 'where visitors find it now');
  put(1, 'also', a.also, 'other addresses it has been served under');
  if (a.oldReach) put(1, 'reach', a.oldReach, 'where it answers, if its address does not lead there');
  put(1, 'files', a.oldFiles, 'the folder that holds its configuration', './old/htdocs');
  if (isRemotePlace(a.oldFiles)) put(1, 'login', a.oldLogin, 'how to log in there', loginExample);
  // Without a shell, only the host itself reaches its database.
  const oldHatch = a.hatches || a.oldDump === fromConfiguration || undefined;
  if (isFtp(a.oldFiles)) put(1, 'hatch', oldHatch, aboutHatch, 'true');
  put(
    1,
    'database',
    a.oldDump === undefined
      ? undefined
      : a.oldDump === fromConfiguration
        ? { from: fromConfiguration }
        : { dump: a.oldDump },
    'a dump of its database, or from: configuration',
    '{ dump: old.sql.gz }',
  );
  section('new', 'The site as it is to be.');
  put(1, 'address', a.newAddress, 'where visitors will find it');
  put(
    1,
    'reach',
    a.newReach,
    'where it answers before the DNS leads there, for check',
    'http://198.51.100.20',
  );
  put(1, 'files', a.newFiles, 'what is there is kept until tidy', './new/htdocs');
  if (isRemotePlace(a.newFiles)) put(1, 'login', a.newLogin, 'how to log in there', loginExample);
  if (isFtp(a.newFiles)) put(1, 'hatch', a.hatches || a.newThrough || undefined, aboutHatch, 'true');
  put(1, 'probe', a.probe ?? false, 'ask the host’s PHP with a file that removes itself');
  lines.push('  database:');
  put(2, 'server', a.newServer, 'as the new configuration is to have it', 'mysql://user@localhost/name');
  const password = a.newServer === undefined ? undefined : `\${${a.passwordVariable ?? 'NEW_DB_PASSWORD'}}`;
  put(2, 'password', password, 'taken from the environment or .env', '${NEW_DB_PASSWORD}');
  if (a.newThrough) put(2, 'through', 'files', 'over the SSH connection of the files, or the hatch');
  put(2, 'prefix', a.newPrefix, 'a new table prefix; leave out to keep the old one', 'new_');
  put(2, 'dump', a.newDump, 'leave the finished dump here and load nothing', 'finished.sql.gz');
  put(2, 'parts', a.parts, 'cut that dump into pieces for a web panel with an upload limit', '5 MiB');
  section('take', 'What to take. Patterns are those of gitignore.');
  put(1, 'files', { without: a.without }, 'the site makes caches and logs again');
  put(
    1,
    'database',
    { tables: { without: [] } },
    'tables to leave out, with * for any characters; see also, only, without-rows',
  );
  section('rewrite', 'What to change in the data beyond the addresses above.');
  put(1, 'pairs', a.pairs ?? [], 'such as { from: /home/old/htdocs, to: /srv/www/new }');
  put(1, 'mail', false, 'also move mail addresses at the old host');
  put(1, 'open-base64', a.openBase64 ?? false, 'also change old addresses in Base64');
  put(1, 'mend', false, 'repair damaged serialized values where that is beyond doubt');
  put(1, 'leave', a.leave, 'table.column patterns to leave as they are');
  section('configure', 'How the new site is set up beyond its database and addresses.');
  put(1, 'search-engines', a.searchEngines ?? 'keep', 'hide it from them, show it to them, or keep what is');
  put(1, 'switch-off', a.switchOff ?? [], 'extensions to hold back until tidy, such as "*cache*"');
  put(1, 'debug', 'off', 'off shows visitors no errors; keep leaves it');
  put(1, 'maintenance', 'keep', 'on or off for its maintenance page, or keep what is');
  put(1, 'fresh-keys', false, 'new keys for cookies, which logs everybody out');
  section('redirects', 'How the old address redirects visitors.');
  put(1, 'server', a.webServer ?? usualDialect, choiceOf(dialectNames));
  put(1, 'first', 'permanent', 'temporary until tidy, or permanent at once');
  put(1, 'rules', [], 'such as { from: "/:year(\\\\d{4})/:slug/", to: "/:slug/" }');
  put(1, 'logs', a.logs ?? [], 'access logs of the old host, such as "access.log*"');
  if (a.oldRecord && a.newRecord) {
    section('dns', 'The records that change at the cutover.');
    put(1, 'address-records', { old: a.oldRecord, new: a.newRecord }, 'the hosts’ addresses');
    if (a.dnsServer) {
      put(1, 'server', a.dnsServer.url, 'who gives the zones and takes updates');
      put(
        1,
        'servers',
        [a.dnsServer.url],
        'who is asked beside it; those that the delegation names, if not listed',
      );
      put(1, 'key', a.dnsServer.key, 'the key with which both are signed');
    }
    if (a.certificate) put(1, 'certificate', a.certificate, 'who gives out the certificate of the new host');
    if (a.resolvers) put(1, 'resolvers', a.resolvers, 'who is asked for the records');
  } else {
    lines.push('', '# dns: { address-records: { old: 192.0.2.10, new: 198.51.100.20 } }   # for cutover');
  }
  return lines.join('\n') + '\n';
}

const loginExample = '{ password: "${PASSWORD}" }  or  { key: ~/.ssh/id_ed25519 }';

/** A choice in words: "a, b or c". */
function choiceOf(names: readonly string[]): string {
  return new Intl.ListFormat('en', { type: 'disjunction' }).format(names).replace(', or ', ' or ');
}

/** Keys whose values name variables. */
const named = ['password', 'secret'];

/** A value in which nothing is taken for a variable, but under those keys. */
function literal(key: string, value: unknown): unknown {
  if (typeof value === 'string') return named.includes(key) ? value : asLiteral(value);
  if (Array.isArray(value)) return value.map(one => literal(key, one));
  if (typeof value !== 'object' || value === null) return value;
  return Object.fromEntries(Object.entries(value).map(([inner, one]) => [inner, literal(inner, one)]));
}

function inline(value: unknown): string {
  return stringify(value, { collectionStyle: 'flow', lineWidth: 0, flowCollectionPadding: true }).trimEnd();
}

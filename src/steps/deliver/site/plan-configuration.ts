import { randomBytes } from 'node:crypto';
import { formatAddress } from '../../../core/address/address.js';
import { applyEdits, asBytes, type ByteString, bytesOfText, textOf } from '../../../core/bytes.js';
import { readDatabaseUrl } from '../../../core/database/place.js';
import { DamageError } from '../../../core/errors.js';
import type { FileEntry } from '../../../core/files/entries.js';
import { type Finding, finding } from '../../../core/findings/findings.js';
import { programFolderEdit } from '../../../core/site/configuration/front-file.js';
import { isServerFile, readServerFile, robotsThat } from '../../../core/site/configuration/server-files.js';
import { sheetEditsIn } from '../../../core/site/configuration/sheet-edits.js';
import {
  type ByHand,
  type ConfigurationFiles,
  type FactName,
  type Facts,
  shownSource,
  type Wanted,
} from '../../../core/site/configuration/source/facts.js';
import { trustsHost } from '../../../core/site/families/drupal.js';
import type { Family } from '../../../core/site/families/family.js';
import type { Move } from '../../move/open.js';
import { entryAt, readConfiguration, type SiteTree } from '../../move/read-site.js';
import { siteMoveOf } from '../../move/terms.js';

/** A configuration file that was set up, and which of its facts changed. */
export interface Configured {
  readonly file: string;
  readonly changed: readonly FactName[];
}

/** A file of the new site as it is to be; `../` for one folder above it. */
export interface SetUpFile {
  readonly path: string;
  readonly before: ByteString | undefined;
  /** Undefined where it must not be there. */
  readonly after: ByteString | undefined;
  /** Mode and time to keep. */
  readonly like: Pick<FileEntry, 'mode' | 'mtime'> | undefined;
}

/** The outcome of setting up the new site. */
export interface SetUp {
  readonly files: readonly SetUpFile[];
  /** The path of its configuration, and the facts that change. */
  readonly configuration: string | undefined;
  /** The paths of those of its files that change. */
  readonly configurationFiles: readonly string[];
  readonly changed: readonly FactName[];
  /** How often each of the sheet's edits was carried out. */
  readonly edits: readonly number[];
  readonly findings: readonly Finding[];
}

/** The outcome of setting up where there is no configuration. */
export const nothingToSetUp: SetUp = {
  files: [],
  configuration: undefined,
  configurationFiles: [],
  changed: [],
  edits: [],
  findings: [],
};

/**
 * What the new configuration is to say.
 * @param isOldKey whether a secret key is still the old site's
 */
export function wantedOf(
  move: Move,
  family: Family,
  facts: Facts,
  isOldKey: (fact: FactName) => boolean = () => false,
): Wanted {
  const wanted: Wanted = {};
  const { database } = move.sheet.new;
  const { configure } = move.sheet;
  if (database?.server) {
    const { host, port, socket, name, user } = readDatabaseUrl(database.server)!;
    wanted.name = bytesOfText(name);
    wanted.user = bytesOfText(user);
    Object.assign(wanted, family.databaseServer(hostIn(host, socket), port, facts));
  }
  if (database?.password !== undefined) wanted.password = bytesOfText(database.password);
  if (database?.prefix !== undefined) wanted.prefix = bytesOfText(database.prefix);
  if (database?.charset !== undefined && facts.charset) wanted.charset = bytesOfText(database.charset);
  Object.assign(wanted, family.moved(facts, siteMoveOf(move)));
  if (configure.debug === 'off') {
    for (const { fact, off } of family.quiet) {
      const value = facts[fact]?.value;
      if (value && value !== '0' && value !== off) wanted[fact] = off;
    }
  }
  const engines = configure['search-engines'];
  if (family.robots && engines !== 'keep' && (facts.robots || engines === 'hide'))
    wanted.robots = family.robots[engines];
  for (const fact of ['title', 'tagline'] as const)
    if (configure[fact] !== undefined && facts[fact]) wanted[fact] = bytesOfText(configure[fact]);
  const { maintenance } = family;
  if (maintenance && 'fact' in maintenance && configure.maintenance !== 'keep') {
    const put = maintenance[configure.maintenance];
    if (facts[maintenance.fact] || put !== '') wanted[maintenance.fact] = put;
  }
  if (configure['fresh-keys']) {
    for (const fact of Object.keys(facts) as FactName[])
      if (fact.startsWith('secretKey') && isOldKey(fact)) wanted[fact] = freshKey();
  }
  return wanted;
}

/** A host as configurations write it: an IPv6 address in brackets, a socket's path after a colon. */
function hostIn(host: string, socket: string | undefined): string {
  const name = host.includes(':') ? `[${host}]` : host;
  return socket === undefined ? name : `${name}:${socket}`;
}

/** 48 random bytes as a key that needs no quoting anywhere. */
function freshKey(): ByteString {
  return asBytes(randomBytes(48).toString('base64url'));
}

/** Where a configuration is read from, and where it goes. */
interface ConfigurationSource {
  readonly tree: SiteTree;
  /** The path of its main file. */
  readonly main: string;
  /** The new site's folder, for findings. */
  readonly finalPlace: string;
  /** The old site's, to tell its keys from fresh ones; left out where the tree is the old site's own. */
  readonly oldFacts?: Facts | undefined;
}

/**
 * What the configuration becomes at the new end.
 */
export async function planConfiguration(
  move: Move,
  family: Family,
  { tree, main, finalPlace, oldFacts }: ConfigurationSource,
): Promise<SetUp> {
  const { read, reading } = await readConfiguration(tree, family, main);
  if (!reading) return nothingToSetUp;
  const { facts } = reading;
  const isOldKey = (fact: FactName) => !oldFacts || oldFacts[fact]?.value === facts[fact]?.value;
  const wanted = wantedOf(move, family, facts, isOldKey);
  const { edits, byHand } = family.editConfiguration(read, wanted);
  const sources = new Map(read.sources);
  const files: SetUpFile[] = [];
  for (const [path, list] of edits) {
    const before = read.sources.get(path);
    if (before === undefined || list.length === 0) continue;
    const after = applyEdits(before, list);
    sources.set(path, after);
    const entry = await entryAt(tree, path);
    // What was reached by a link becomes a file of its own.
    files.push({ path, before, after, like: entry?.type === 'file' ? entry : undefined });
  }
  const after = { main, sources };
  verifyConfiguration(family, after, wanted, byHand, `${finalPlace}/${main}`);
  // What is left for the person has not changed.
  const left = new Set(byHand.map(({ fact }) => fact));
  const changed = (Object.keys(wanted) as FactName[]).filter(
    fact => facts[fact]?.value !== wanted[fact] && !left.has(fact),
  );
  const findings = [
    ...byHand.map(one => byHandFinding(one, finalPlace)),
    ...doubtsOf(move, family, after, finalPlace),
  ];
  if (changed.some(fact => fact.startsWith('secretKey'))) findings.push(freshKeys(`${finalPlace}/${main}`));
  return {
    files,
    configuration: main,
    configurationFiles: files.map(({ path }) => path),
    changed,
    edits: [],
    findings,
  };
}

function byHandFinding({ fact, file, line, source, put }: ByHand, finalPlace: string): Finding {
  return finding({
    level: 'warn',
    code: 'configuration-by-hand',
    place: `${finalPlace}/${file}${line > 0 ? `:${line}` : ''}`,
    what: `The ${fact} cannot be set safely${source ? ` where it is ${shownSource(fact, source)}` : ', since it is not there'}`,
    remedy: `${line > 0 ? `Make line ${line}` : 'Add the line'}: ${put}`,
  });
}

function freshKeys(place: string): Finding {
  return finding({
    level: 'note',
    code: 'keys-fresh',
    place,
    what: 'The keys that sign cookies are new, as the sheet asks; everybody is logged out',
    remedy: 'Ask everybody who works on the site to log in again at the new address',
  });
}

/** What of a set-up configuration is well-formed and may be wrong all the same. */
function doubtsOf(move: Move, family: Family, after: ConfigurationFiles, finalPlace: string): Finding[] {
  const facts = family.readConfiguration(after)?.facts ?? {};
  const findings: Finding[] = [];
  const at = (fact: FactName) => `${finalPlace}/${facts[fact]?.file}:${facts[fact]?.line}`;
  const trusted = (Object.keys(facts) as FactName[]).filter(fact => fact.startsWith('trustedHosts.'));
  const patterns = trusted.map(fact => facts[fact]?.value);
  const { host } = move.newAddress;
  if (!patterns.includes(undefined) && !trustsHost(patterns as string[], host)) {
    findings.push(
      finding({
        level: 'warn',
        code: 'trusted-hosts',
        place: at(trusted[0]!),
        what: `The site answers only to hosts that it trusts, and ${host} is not one of them`,
        remedy: `Add the pattern '^${host.replaceAll('.', '\\.')}$' to trusted_host_patterns`,
      }),
    );
  }
  const next = formatAddress(move.newAddress);
  for (const fact of ['home', 'siteAddress', 'server'] as const) {
    const value = facts[fact]?.value;
    const wanted = fact === 'server' ? formatAddress({ ...move.newAddress, segments: [] }) : next;
    if (
      !value ||
      textOf(value)
        .replace(/^https?:/, '')
        .startsWith(wanted.replace(/^https?:/, ''))
    )
      continue;
    findings.push(
      finding({
        level: 'warn',
        code: 'address-fixed-elsewhere',
        place: at(fact),
        what: `The configuration fixes the ${fact} as ${textOf(value)}, which is neither the old nor the new address`,
        remedy: 'Visitors will be sent there; add it to old.also if it was this site, or correct the line',
      }),
    );
  }
  return findings;
}

/** What the web server's files are made of. */
interface ServedSource {
  /** The configuration's files as they are to be; edits of the sheet come after. */
  readonly configured: readonly SetUpFile[];
  /** Reads one of the others. */
  read(path: ByteString): Promise<ByteString>;
  /** The files that are there. */
  readonly entries: AsyncIterable<FileEntry>;
  readonly finalPlace: string;
}

/**
 * What the files that steer the web server become, and those that the sheet asks to edit.
 * @returns all of them together
 */
export async function planServed(
  move: Move,
  family: Family,
  { configured, read, entries, finalPlace }: ServedSource,
): Promise<{ files: SetUpFile[]; edits: number[]; findings: Finding[] }> {
  const files = new Map(configured.map(file => [file.path, file]));
  const wishes = move.sheet.configure.edits;
  const found = wishes.map(() => 0);
  const { maintenance } = move.sheet.configure;
  const page = family.maintenance;
  let robots = false;
  let standing: FileEntry | undefined;
  for await (const entry of entries) {
    if (entry.path === 'robots.txt') robots = true;
    if (page && 'file' in page && entry.path === page.file) standing = entry;
    if (entry.type !== 'file' || !isFittable(move, family, entry.path)) continue;
    const before = await read(entry.path);
    const after = fit(move, family, entry.path, files.get(entry.path)?.after ?? before, (wish, count) => {
      found[wish]! += count;
    });
    if (after !== before) files.set(entry.path, { path: entry.path, before, after, like: entry });
  }
  if (!robots && move.sheet.configure['search-engines'] === 'hide')
    files.set('robots.txt', { ...absent, path: 'robots.txt', after: robotsThat('hide', undefined) });
  const findings: Finding[] = [];
  for (const [i, { file }] of wishes.entries()) {
    if (found[i]! > 0) continue;
    findings.push(
      finding({
        level: 'warn',
        code: 'edit-not-found',
        place: `${finalPlace}/${file}`,
        what: `Edit ${i + 1} of configure.edits finds nothing to change`,
        remedy: 'Correct file or find in the sheet; they are compared byte for byte',
      }),
    );
  }
  if (maintenance === 'keep') return { files: [...files.values()], edits: found, findings };
  if (!page) {
    findings.push(
      finding({
        level: 'note',
        code: 'maintenance-by-hand',
        place: finalPlace,
        what: `A ${family.name} site keeps its maintenance mode outside of its files`,
        remedy: `Switch it ${maintenance} in the site itself`,
      }),
    );
  } else if ('file' in page) {
    const before = standing && (await read(standing.path));
    if (maintenance === 'on')
      files.set(page.file, { ...absent, path: page.file, before, after: page.content });
    else if (standing) files.set(page.file, { ...absent, path: page.file, before });
  }
  return { files: [...files.values()], edits: found, findings };
}

const absent = { before: undefined, after: undefined, like: undefined };

/** Whether delivery may change a file besides the configuration. */
function isFittable(move: Move, { front }: Family, path: ByteString): boolean {
  if (front && path === `../${front.file}`) return true;
  return isServerFile(path) || move.sheet.configure.edits.some(({ file }) => bytesOfText(file) === path);
}

/** A file as it is to be at the new end. */
function fit(
  move: Move,
  { front }: Family,
  path: ByteString,
  source: ByteString,
  counted?: (wish: number, count: number) => void,
): ByteString {
  const name = move.newFiles?.name;
  if (front && path === `../${front.file}` && name !== undefined) {
    const edit = programFolderEdit(source, front, bytesOfText(name));
    return edit ? applyEdits(source, [edit]) : source;
  }
  const engines = move.sheet.configure['search-engines'];
  if (path === 'robots.txt' && engines === 'hide') return robotsThat('hide', source)!;
  const fitted = applyEdits(source, readServerFile(path, source, siteMoveOf(move), path).edits);
  const served = path === 'robots.txt' && engines === 'show' ? robotsThat('show', fitted)! : fitted;
  const wishes = [...move.sheet.configure.edits.entries()].filter(
    ([, { file }]) => bytesOfText(file) === path,
  );
  const { edits, counts } = sheetEditsIn(
    served,
    wishes.map(([, wish]) => wish),
  );
  for (const [i, [wish, { put }]] of wishes.entries()) {
    // Set up before, it is there as it is to be.
    const there = put !== '' && served.includes(bytesOfText(put)) ? 1 : 0;
    counted?.(wish, counts[i]! || there);
  }
  return applyEdits(served, edits);
}

/** Reads an edited configuration back: it must say what was wanted before it goes anywhere. */
function verifyConfiguration(
  family: Family,
  after: ConfigurationFiles,
  wanted: Wanted,
  byHand: readonly ByHand[],
  file: string,
): void {
  const facts = family.readConfiguration(after)?.facts;
  for (const [fact, value] of Object.entries(wanted) as [FactName, ByteString][]) {
    if (byHand.some(one => one.fact === fact) || facts?.[fact]?.value === value) continue;
    throw new DamageError({
      doing: `Editing the configuration ${file}`,
      cause: `read back, its ${fact} is not what was written`,
      remedy: 'Nothing was put in place. Simplify that line of the old configuration and run it again',
    });
  }
}

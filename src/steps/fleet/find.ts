import { mkdtemp, rm, writeFile } from 'node:fs/promises';
import { tmpdir } from 'node:os';
import { basename, join, resolve } from 'node:path';
import { stringify } from 'yaml';
import { parseAddress } from '../../core/address/address.js';
import { asBytes, textOf } from '../../core/bytes.js';
import { isNotFound } from '../../core/errors.js';
import { parsePlaceUrl } from '../../core/files/place-url.js';
import { nameOfAddress } from '../../core/fleet/table.js';
import { asLiteral } from '../../core/sheet/variables.js';
import { families, recogniseFamily } from '../../core/site/families/families.js';
import type { FilesEnd } from '../../ends/files/files-end.js';
import type { FilesPlace } from '../../ends/files/place.js';
import { oldDatabaseOf } from '../move/databases.js';
import type { EventSink } from '../move/events.js';
import { type Move, openMove } from '../move/open.js';
import { lookAtSite, type Site, treeOf } from '../move/read-site.js';

/** A site that was recognised by its files. */
export interface FoundSite {
  readonly name: string;
  /** From its configuration or its database; undefined where neither says it, or the database was not reached. */
  readonly address: string | undefined;
  readonly family: string;
  readonly version: string | undefined;
  /** The path of its folder. */
  readonly folder: string;
  readonly files: number;
  readonly bytes: number;
  readonly database: string | undefined;
  readonly prefix: string | undefined;
  /** Why something of it is not known. */
  readonly unknown: string | undefined;
}

/** A site before all are named; its path is from the place that was looked through. */
type Unnamed = Omit<FoundSite, 'name'> & { readonly path: string };

/** How sites are looked for. */
export interface FindWish {
  /** Folder or host, as a sheet would name it. */
  readonly place: string;
  readonly password: string | undefined;
  /** A private key, and the fingerprint of the host's. */
  readonly key: string | undefined;
  readonly hostKey: string | undefined;
  /** How many folders below the place are looked into. */
  readonly depth: number;
  readonly environment: Readonly<Record<string, string | undefined>>;
  readonly events: EventSink;
  readonly signal: AbortSignal;
}

/** Where hosts keep sites; asked where the place is a host alone. */
const usualRoots = ['/home', '/var/www', '/srv', '/opt'];

/** Finds every site that it recognises in a place. Nothing there is run or changed. */
export async function findSites(wish: FindWish): Promise<FoundSite[]> {
  const found: Unnamed[] = [];
  for (const place of rootsOf(wish.place)) {
    await withLook(wish, place, async move => {
      const root = move.oldPlace!;
      const end = root.open();
      if (!(await end.isThere())) return;
      const folders = await siteFolders(end, wish);
      for (const [path, { files, bytes }] of [...folders].sort(([a], [b]) => (a < b ? -1 : 1))) {
        wish.signal.throwIfAborted();
        const at = path === '' ? root : root.below(path);
        wish.events({ type: 'message', text: `Looking at ${at.path}` });
        found.push({ ...(await lookAt(move, at)), path, files, bytes });
      }
    });
  }
  return named(found);
}

function rootsOf(place: string): string[] {
  const url = parsePlaceUrl(place);
  if (!url || (url.path ?? '/') !== '/') return [place];
  return usualRoots.map(root => `${place.replace(/\/$/, '')}${root}`);
}

/** A move of which only the old place is used, to look at what is there with the ways of every move. */
async function withLook(wish: FindWish, place: string, work: (move: Move) => Promise<void>): Promise<void> {
  const folder = await mkdtemp(join(tmpdir(), 'able-porter-find-'));
  let move: Move | undefined;
  try {
    const login = {
      ...(wish.password === undefined ? {} : { password: '${FIND_PASSWORD}' }),
      ...(wish.key === undefined ? {} : { key: asLiteral(resolve(wish.key)) }),
      ...(wish.hostKey === undefined ? {} : { 'host-key': asLiteral(wish.hostKey) }),
    };
    const sheet = {
      name: 'find',
      old: {
        address: 'https://old.example',
        files: asLiteral(place),
        database: { from: 'configuration' },
        login,
      },
      new: { address: 'https://new.example' },
    };
    await writeFile(join(folder, 'move.yaml'), stringify(sheet));
    move = await openMove(join(folder, 'move.yaml'), { ...wish.environment, FIND_PASSWORD: wish.password });
    await work(move);
  } finally {
    await move?.sessions.close();
    await move?.accounts.close();
    await rm(folder, { recursive: true, force: true });
  }
}

/** What is counted of a folder. */
interface Size {
  files: number;
  bytes: number;
}

const marks = families.flatMap(family => family.marks.flat());

/** The folders in which a site is, with the size of all that is in them. */
async function siteFolders(
  end: FilesEnd,
  { depth, events, signal }: FindWish,
): Promise<Map<string, Readonly<Size>>> {
  const sizes = new Map<string, Size>();
  const seen = new Map<string, Set<string>>();
  let files = 0;
  for await (const { path, type, size } of end.list(() => false, signal)) {
    if (type !== 'file') continue;
    files++;
    if (files % 1000 === 0) events({ type: 'message', text: `${files} files listed` });
    const text = textOf(path);
    const parts = text.split('/');
    for (let i = 0; i < parts.length && i <= depth; i++) add(sizes, parts.slice(0, i).join('/'), size);
    for (const mark of marks) {
      if (text !== mark && !text.endsWith(`/${mark}`)) continue;
      const folder = text.slice(0, Math.max(0, text.length - mark.length - 1));
      seen.set(folder, (seen.get(folder) ?? new Set()).add(mark));
    }
  }
  const sites = [...seen].filter(([, there]) => recogniseFamily(mark => there.has(mark)).by.length > 0);
  return new Map(sites.flatMap(([folder]) => (sizes.has(folder) ? [[folder, sizes.get(folder)!]] : [])));
}

function add(sizes: Map<string, Size>, folder: string, bytes: number): void {
  const known = sizes.get(folder) ?? { files: 0, bytes: 0 };
  known.files++;
  known.bytes += bytes;
  sizes.set(folder, known);
}

async function lookAt(move: Move, place: FilesPlace): Promise<Omit<FoundSite, 'files' | 'bytes' | 'name'>> {
  const site = await lookAtSite(treeOf(place), move.oldAddress);
  const fact = (name: 'name' | 'prefix' | 'home' | 'siteAddress') => {
    const value = site.facts?.[name]?.value;
    return value === undefined ? undefined : textOf(value);
  };
  const known = {
    family: site.family.name,
    version: site.version.version,
    folder: place.path,
    database: fact('name'),
    prefix: fact('prefix'),
  };
  try {
    const address = fact('home') ?? fact('siteAddress') ?? (await addressIn(move, site));
    // Whoever has the site may have written anything there.
    if (address !== undefined) parseAddress(address);
    return { ...known, address, unknown: undefined };
  } catch (error) {
    if (isNotFound(error)) return { ...known, address: undefined, unknown: undefined };
    return { ...known, address: undefined, unknown: `its address: ${(error as Error).message}` };
  }
}

/** What the database of a site says of its address. */
async function addressIn(move: Move, site: Site): Promise<string | undefined> {
  const { addressRow } = site.family;
  const prefix = site.facts?.prefix?.value;
  if (!addressRow || !site.facts?.name) return undefined;
  const { database } = await oldDatabaseOf(move, site);
  return database.use(connection =>
    connection.cell(textOf(prefix ?? asBytes('')) + addressRow.table, addressRow.column, addressRow.where),
  );
}

/** Names that differ, of addresses or else of folders. */
function named(found: readonly Unnamed[]): FoundSite[] {
  const taken = new Set<string>();
  return found.map(({ path, ...site }) => {
    const base = nameOfAddress(site.address ?? path) || nameOfAddress(basename(site.folder)) || 'site';
    let name = base;
    for (let n = 2; taken.has(name.toLowerCase()); n++) name = `${base}-${n}`;
    taken.add(name.toLowerCase());
    return { name, ...site };
  });
}

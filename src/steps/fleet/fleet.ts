import { mkdir, readdir, readFile } from 'node:fs/promises';
import { basename, dirname, join, resolve } from 'node:path';
import { parse, stringify } from 'yaml';
import { UsageError } from '../../core/errors.js';
import { hostsOf } from '../../core/fleet/hosts.js';
import { readFleet } from '../../core/fleet/read.js';
import type { FleetWish } from '../../core/fleet/schema.js';
import { namesOf, readSiteTable, siteRows } from '../../core/fleet/table.js';
import { fillTemplate } from '../../core/fleet/template.js';
import { digestOf } from '../../core/journal.js';
import { readSecretsFile } from '../../ends/move-folder/secrets.js';
import { whileDoing } from '../../ends/system-errors.js';
import { writeWhole } from '../../ends/whole-file.js';

/** A site of a fleet: a move in a folder of its own. */
export interface FleetSite {
  readonly name: string;
  /** The file of its sheet, in its move folder. */
  readonly sheet: string;
  /** The hosts that its sheet names. */
  readonly hosts: readonly string[];
  /** Of its sheet. */
  readonly digest: string;
  readonly from: string;
  readonly to: string;
}

/** Many moves, worked through together. */
export interface Fleet {
  readonly name: string;
  /** The folder of `fleet.yaml`. */
  readonly folder: string;
  /** The folder of the move folders. */
  readonly moves: string;
  readonly wish: FleetWish;
  readonly sites: readonly FleetSite[];
  /** What the moves' sheets take their variables from: that of this process, and `.env` beside `fleet.yaml`. */
  readonly environment: Readonly<Record<string, string>>;
}

type Environment = Readonly<Record<string, string | undefined>>;

/** A sheet that is made here begins so; nobody else's is replaced. */
const head = '# Made from fleet.yaml, and made again when that changes: change it there.\n';

/**
 * Reads `fleet.yaml`, and makes the sheet of every site in its move folder.
 * @throws UsageError where it, the table or the template has mistakes
 */
export async function openFleet(file: string, environment: Environment): Promise<Fleet> {
  const path = resolve(file);
  const folder = dirname(path);
  const wish = readFleet(
    await readText(path, 'Write it as docs/fleet.md shows, or name yours with --fleet'),
    basename(path),
  );
  const moves = resolve(folder, wish.moves);
  const sites =
    wish.sheets === undefined
      ? await sitesOfTable(wish, folder, moves)
      : await sitesOfSheets(resolve(folder, wish.sheets), moves);
  const own = Object.entries(environment).filter((one): one is [string, string] => one[1] !== undefined);
  const secrets = await readSecretsFile(join(folder, '.env'));
  return {
    name: wish.name,
    folder,
    moves,
    wish,
    sites,
    environment: { ...secrets, ...Object.fromEntries(own) },
  };
}

/** @throws UsageError for a name that no site has */
export function sitesNamed({ sites }: Fleet, names: readonly string[]): readonly FleetSite[] {
  const unknown = names.find(name => !sites.some(site => site.name === name));
  if (unknown === undefined) return sites.filter(({ name }) => names.includes(name));
  throw new UsageError({
    doing: 'Choosing the sites',
    cause: `the fleet has no site "${unknown}"`,
    remedy: 'Name sites as "able-porter fleet status" does',
  });
}

async function readText(file: string, remedy: string): Promise<string> {
  try {
    return await readFile(file, 'utf8');
  } catch (cause) {
    if ((cause as NodeJS.ErrnoException).code !== 'ENOENT')
      return whileDoing(`Reading ${file}`, () => readFile(file, 'utf8'));
    throw new UsageError({ doing: `Reading ${file}`, cause: 'there is none', remedy }, { cause });
  }
}

async function sitesOfTable(wish: FleetWish, folder: string, moves: string): Promise<FleetSite[]> {
  const table = typeof wish.sites === 'string' ? wish.sites : 'fleet.yaml';
  const rows =
    typeof wish.sites === 'string'
      ? readSiteTable(
          await readText(resolve(folder, wish.sites), 'Correct "sites" in fleet.yaml'),
          wish.sites,
        )
      : siteRows(wish.sites ?? [], table);
  const template =
    typeof wish.template === 'string'
      ? parse(await readText(resolve(folder, wish.template), 'Correct "template" in fleet.yaml'))
      : wish.template;
  const sites: FleetSite[] = [];
  for (const [i, name] of namesOf(rows, table).entries()) {
    const filled = fillTemplate(template, rows[i]!, name) as Record<string, unknown>;
    const sheet = { name, ...filled };
    sites.push(await placed(moves, name, stringify(sheet, { lineWidth: 0 }), sheet));
  }
  return sites;
}

/** Sheets that are there: each in a folder of its own, where its move then lives, or several in one folder. */
async function sitesOfSheets(folder: string, moves: string): Promise<FleetSite[]> {
  const names = await whileDoing(`Looking for sheets in ${folder}`, () =>
    readdir(folder, { withFileTypes: true }),
  );
  const sites: FleetSite[] = [];
  for (const entry of names.sort((a, b) => (a.name < b.name ? -1 : 1))) {
    const own = join(folder, entry.name, 'move.yaml');
    if (entry.isDirectory()) {
      const text = await readFile(own, 'utf8').catch(() => undefined);
      if (text !== undefined) sites.push(siteOf(entry.name, own, text, looked(text)));
    } else if (/^\w[\w.-]*\.ya?ml$/.test(entry.name)) {
      const text = await readText(join(folder, entry.name), '');
      sites.push(await placed(moves, entry.name.replace(/\.ya?ml$/, ''), text, looked(text)));
    }
  }
  if (sites.length > 0) return sites;
  throw new UsageError({
    doing: `Looking for sheets in ${folder}`,
    cause: 'there are none',
    remedy: 'Put them there as NAME.yaml or NAME/move.yaml, or correct "sheets" in fleet.yaml',
  });
}

/** A sheet as far as its hosts can be read from it; its mistakes are reported when its move is opened. */
function looked(text: string): unknown {
  try {
    return parse(text);
  } catch {
    return undefined;
  }
}

async function placed(moves: string, name: string, text: string, sheet: unknown): Promise<FleetSite> {
  const file = join(moves, name, 'move.yaml');
  const wanted = head + text;
  const there = await readFile(file, 'utf8').catch(() => undefined);
  if (there !== undefined && !there.startsWith(head)) {
    throw new UsageError({
      doing: `Writing ${file}`,
      cause: 'somebody wrote this sheet by hand',
      remedy: 'Move it away, or name the folder of the moves as "sheets" in place of template and sites',
    });
  }
  if (there !== wanted) {
    await whileDoing(`Making ${dirname(file)}`, () => mkdir(dirname(file), { recursive: true, mode: 0o700 }));
    await writeWhole(file, wanted);
  }
  return siteOf(name, file, wanted, sheet);
}

function siteOf(name: string, file: string, text: string, sheet: unknown): FleetSite {
  const { old, new: next } = (sheet ?? {}) as { old?: { address?: unknown }; new?: { address?: unknown } };
  return {
    name,
    sheet: file,
    hosts: hostsOf(sheet),
    digest: digestOf(text),
    from: String(old?.address ?? ''),
    to: String(next?.address ?? ''),
  };
}

import { open } from 'node:fs/promises';
import { stringify } from 'csv-stringify/sync';
import { UsageError } from '../../core/errors.js';
import { type FoundSite, findSites } from '../../steps/fleet/find.js';
import { endSignal } from '../program/with-move.js';
import { Terminal } from '../terminal/terminal.js';
import type { FleetArguments } from './arguments.js';
import { showFound } from './show.js';

/** Finds sites in a place, and writes the table of a fleet. */
export async function fleetFindCommand(argv: FleetArguments): Promise<void> {
  const { action: place, out, depth, key, hostKey } = argv;
  if (place === undefined) {
    throw new UsageError({
      doing: 'Finding sites',
      cause: 'no place is named',
      remedy: 'Name a folder or a host: able-porter fleet find sftp://root@old.example/',
    });
  }
  const signal = endSignal();
  const terminal = await Terminal.open(argv);
  const file = out === undefined ? undefined : await newFile(out);
  try {
    const { FIND_PASSWORD: password } = process.env;
    const { events } = terminal;
    const sites = await findSites({
      place,
      password,
      key,
      hostKey,
      depth,
      environment: process.env,
      events,
      signal,
    });
    await file?.writeFile(tableOf(sites));
    terminal.result(sites, () => showFound(sites, out, terminal.colors));
  } finally {
    terminal.endBar();
    await file?.close();
  }
}

/** A table that is there may have been filled in. @throws UsageError then */
async function newFile(out: string) {
  try {
    return await open(out, 'wx', 0o600);
  } catch (cause) {
    if ((cause as NodeJS.ErrnoException).code !== 'EEXIST') throw cause;
    throw new UsageError(
      { doing: `Writing ${out}`, cause: 'it is there already', remedy: 'Name another file, or move it away' },
      { cause },
    );
  }
}

function tableOf(sites: readonly FoundSite[]): string {
  const rows = sites.map(({ name, address, family, folder, bytes, database, prefix }) => ({
    name,
    address: address ?? '',
    folder,
    database: database ?? '',
    prefix: prefix ?? '',
    family,
    bytes,
    'new address': '',
    'new folder': '',
    'new database': '',
  }));
  return stringify(rows, { header: true, escape_formulas: true });
}

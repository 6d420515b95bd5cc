import { counted } from '../../core/text/numbers.js';
import { ledgerOf } from '../move/ledger.js';
import type { Move } from '../move/open.js';
import { tablesInTheWay } from '../move/replacement.js';
import { exists, isEmpty, stagingOf } from './files/staging.js';

/** What is at the new end that this move did not put there, and that a delivery would replace and keep. */
export async function inTheWay(move: Move): Promise<string[]> {
  const [places, tables] = await Promise.all([placesInTheWay(move), tablesInTheWay(move)]);
  return tables.length > 0 ? [...places, shownTables(move, tables)] : places;
}

async function placesInTheWay(move: Move): Promise<string[]> {
  const ledger = await ledgerOf(move);
  const places: string[] = [];
  for (const place of [move.newFiles, move.newDump].filter(one => one !== undefined)) {
    const staging = stagingOf(move, place, ledger);
    if (!ledger.delivered.has(place.text) && (await exists(staging, staging.path)) && !(await isEmpty(place)))
      places.push(place.text);
  }
  return places;
}

/** Tables in words; where more than the site's own may go, every one by its name. */
function shownTables({ sheet }: Move, tables: readonly string[]): string {
  const names = sheet.new.database?.replace === undefined ? '' : `: ${tables.join(', ')}`;
  return `${counted(tables.length, 'table')} of the new database${names}`;
}

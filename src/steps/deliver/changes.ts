import { textOf } from '../../core/bytes.js';
import { type Finding, finding } from '../../core/findings/findings.js';
import { count, counted } from '../../core/text/numbers.js';
import { ledgerOf } from '../move/ledger.js';
import type { Move } from '../move/open.js';
import type { WrittenSince } from './database/written-since.js';
import type { EditedFile } from './files/edited-since.js';

/** What the new site has written since the last delivery and this one would replace. */
export interface Changes {
  readonly files: readonly EditedFile[] | undefined;
  readonly database: WrittenSince | undefined;
}

const mostNamed = 5;

/** Why a delivery stops: the new site has written what exists nowhere else. */
export async function changesFindings(move: Move, changes: Changes, replaces: boolean): Promise<Finding[]> {
  const text = changesText(changes);
  if (text === undefined) return [];
  const since = changes.database?.at.replace('T', ' ').slice(0, 16);
  const what = `${text} written at the new site since ${since === undefined ? 'it was delivered' : `${since} UTC`}`;
  const place = move.sheet.new.address;
  if ((await ledgerOf(move)).life === 'live') {
    return [
      liveFinding(
        move,
        what,
        'Do not deliver again; if visitors do not use it after all, say so with "able-porter cutover back --by-hand"',
      ),
    ];
  }
  if (replaces) {
    const remedy = 'List what is kept with "able-porter undo --list"';
    return [
      finding({
        level: 'warn',
        code: 'written-since',
        place,
        what: `${what}; it is replaced and kept`,
        remedy,
      }),
    ];
  }
  const remedy =
    'If it is not needed, deliver with --replace-changes, which keeps it; otherwise take it to the old site first';
  return [finding({ level: 'stop', code: 'written-since', place, what, remedy })];
}

/** Why nothing is replaced or taken away at a site that visitors use. @param what was written there */
export function liveFinding({ sheet }: Move, what: string, remedy: string): Finding {
  const text = `${what}, and visitors use it`;
  return finding({ level: 'stop', code: 'written-since', place: sheet.new.address, what: text, remedy });
}

/** What was written, in words: how much, and where; undefined for nothing. */
export function changesText({ files = [], database }: Changes): string | undefined {
  const tables = database?.tables ?? [];
  const rows = tables.reduce((sum, one) => sum + one.rows, 0);
  const parts: string[] = [];
  if (rows > 0) {
    const named = tables.slice(0, mostNamed).map(({ table, rows: n, keys, latest }) => {
      const shown = keys.filter(Boolean);
      const which = shown.length > 0 ? ` (${shown.join(', ')}${n > shown.length ? ', …' : ''})` : '';
      return `${count(n)} in ${table}${which}${latest === undefined ? '' : `, the latest ${latest}`}`;
    });
    const more = tables.length > mostNamed ? '; …' : '';
    parts.push(`${counted(rows, 'row')} in ${counted(tables.length, 'table')} [${named.join('; ')}${more}]`);
  }
  if (files.length > 0) {
    const named = files.slice(0, mostNamed).map(({ path, mtime }) => {
      const at = new Date(mtime).toISOString().replace('T', ' ').slice(0, 16);
      return `${textOf(path)} (${at} UTC)`;
    });
    const more = files.length > mostNamed ? ', …' : '';
    parts.push(`${counted(files.length, 'file')} [${named.join(', ')}${more}]`);
  }
  if (parts.length === 0) return undefined;
  return `${parts.join(' and ')} ${rows + files.length === 1 ? 'was' : 'were'}`;
}

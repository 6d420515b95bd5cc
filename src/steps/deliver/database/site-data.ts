import { randomBytes } from 'node:crypto';
import { parseAddress } from '../../../core/address/address.js';
import { type ByteString, textOf } from '../../../core/bytes.js';
import { type Finding, finding } from '../../../core/findings/findings.js';
import { holdsBack } from '../../../core/sheet/held-back.js';
import type { Sheet } from '../../../core/sheet/schema.js';
import type { DataEdit } from '../../../core/site/data/data-edits.js';
import type { RowChange } from '../../../core/site/data/row-edits.js';
import type { Family, SiteWish } from '../../../core/site/families/family.js';
import { showable } from '../../../core/text/display.js';
import type { DatabaseConnection } from '../../../ends/database/database-end.js';
import type { Move } from '../../move/open.js';
import { noteDeed, type StepRun } from '../../move/step.js';
import type { LoadedNames } from './verify.js';

/** The result of one edit of the new site's data. */
export interface EditDone {
  readonly what: string;
  readonly table: string;
  /** Rows that were changed or removed. */
  readonly rows: number;
  /** The first change, as it may be shown; empty for rows that were removed and for secrets. */
  readonly before: string;
  readonly after: string;
  /** The extensions that it switches off until `tidy`. */
  readonly held: readonly string[];
}

/** Counts what a site's edits change in rows that are put there one by one. */
export class EditsDone {
  private readonly byEdit = new Map<DataEdit, { rows: number; first: RowChange['put']; held: string[] }>();

  add({ edit, put }: RowChange): void {
    const done = this.byEdit.get(edit) ?? { rows: 0, first: put, held: [] };
    this.byEdit.set(edit, done);
    done.rows++;
    if (put) done.held.push(...(edit.heldBack?.(put.before, put.after) ?? []));
  }

  /** The extensions that they switch off. */
  get held(): string[] {
    return [...this.byEdit.values()].flatMap(({ held }) => held);
  }

  all(): EditDone[] {
    return [...this.byEdit].map(([edit, { rows, first, held }]) => editDone(edit, rows, first, held));
  }
}

/** What is to be corrected in the data of the new site, as the sheet and the site's family have it. */
export function editsWanted(
  { sheet, oldAddress, newAddress }: Move,
  family: Family,
  prefix: string,
  tables: readonly string[],
): readonly DataEdit[] {
  const { configure } = sheet;
  const { administrator } = configure;
  return (
    family.dataEdits?.({
      newAddress,
      oldAddress,
      oldAddresses: [oldAddress, ...sheet.old.also.map(parseAddress)],
      prefix,
      tables,
      title: configure.title,
      tagline: configure.tagline,
      searchEngines: configure['search-engines'],
      holdsBack: holdsBack(sheet),
      random: randomBytes,
      administrator:
        administrator?.login === undefined ? undefined : { ...administrator, login: administrator.login },
    }) ?? []
  );
}

/** What the sheet asks for and cannot be set for this kind of site. */
export function unmetWishes({ configure }: Sheet, family: Family): Finding[] {
  const asked: Record<SiteWish, boolean> = {
    title: configure.title !== undefined,
    tagline: configure.tagline !== undefined,
    administrator: configure.administrator !== undefined,
    'switch-off': configure['switch-off'].length > 0,
  };
  return (Object.keys(asked) as SiteWish[])
    .filter(wish => asked[wish] && !family.sets.includes(wish))
    .map(wish =>
      finding({
        level: 'warn',
        code: 'wish-not-carried-out',
        place: `configure.${wish}`,
        what: `A ${family.name} site has no such setting, so it was not set`,
        remedy: 'Set it by hand in the new site, and remove it from the sheet',
      }),
    );
}

/** Notes what is switched off, before it is, for `tidy` to list it. */
export async function noteHeld(run: StepRun, names: readonly string[]): Promise<void> {
  for (const extension of names) await noteDeed(run, 'deliver', { kind: 'held back', extension });
}

/** The result of an edit, as it may be shown. @param first its first change of a value */
export function editDone(
  edit: DataEdit,
  rows: number,
  first: { readonly before: ByteString; readonly after: ByteString } | undefined,
  held: readonly string[],
): EditDone {
  const shown = (value: ByteString | undefined) =>
    value === undefined || edit.secret || edit.heldBack ? '' : showable(textOf(value)).slice(0, 120);
  const { what, table } = edit;
  return { what, table, rows, before: shown(first?.before), after: shown(first?.after), held };
}

/**
 * Corrects in the loaded tables what a move changes for the site besides its addresses. Each edit is done wholly or not at
 * all and can be repeated; what it switches off is noted before.
 */
export async function editSite(
  run: StepRun,
  family: Family,
  connection: DatabaseConnection,
  prefix: string,
  { tables, of }: LoadedNames,
): Promise<EditDone[]> {
  const edits = editsWanted(run.move, family, prefix, tables);
  const heldBy = ({ edit, put }: RowChange) => (put && edit.heldBack?.(put.before, put.after)) ?? [];
  run.signal.throwIfAborted();
  const done = await connection.edit(
    edits.map(edit => ({ ...edit, table: of(edit.table) })),
    changes => noteHeld(run, changes.flatMap(heldBy)),
  );
  return edits.map((edit, i) => {
    const { rows, changes } = done[i]!;
    return editDone(edit, rows, changes[0]?.put, changes.flatMap(heldBy));
  });
}

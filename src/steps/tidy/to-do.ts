import { textOf } from '../../core/bytes.js';
import { familyNamed } from '../../core/site/families/families.js';
import type { Family } from '../../core/site/families/family.js';
import type { DatabaseConnection } from '../../ends/database/database-end.js';
import { newDatabaseOf } from '../move/databases.js';
import type { Ledger } from '../move/ledger.js';
import { readSmall, treeOf } from '../move/read-site.js';
import type { StepRun } from '../move/step.js';

/** What a person does by hand after a move, in order, as far as a look at the new site shows that it is still to be done. */
export async function leftToDo(run: StepRun, ledger: Ledger): Promise<string[]> {
  const { newLive, sheet } = run.move;
  const { configure } = sheet;
  const { shutOut, heldBack } = await seenAtNewSite(run, ledger);
  const { administrator } = configure;
  return [
    ...(newLive ? [] : [`Open the permalink settings of ${sheet.new.address} once and save them`]),
    ...shutOut.map(where => `Let search engines in again: ${where}`),
    'Empty the caches of the site and of any service in front of it',
    ...heldBack.map(name => `Switch on again, and look at the site: ${name}`),
    ...(administrator?.login === undefined
      ? []
      : [
          `Change the password of ${administrator.login} at the new site, and remove configure.administrator from the sheet`,
        ]),
    ...(sheet.new.database?.administrator
      ? ['Remove new.database.administrator from the sheet, and its password from .env']
      : []),
    ...[...ledger.stored].map(
      crate => `Remove the crate from the store once nobody needs it (able-porter crates remove): ${crate}`,
    ),
    'Look for installers, archives and dumps that somebody left in the web root',
    ...(sheet.redirects.first === 'temporary' && ledger.redirects === undefined
      ? ['Put the permanent redirects (folder redirects) in place of the temporary ones, where you put those']
      : []),
    `Keep the redirects at ${sheet.old.address} for at least a year, then have the old site and its database removed`,
  ];
}

interface SeenAtNewSite {
  /** Where search engines are still asked to stay away. */
  readonly shutOut: readonly string[];
  /** Extensions that a delivery switched off and nobody has switched on. */
  readonly heldBack: readonly string[];
}

async function seenAtNewSite(run: StepRun, { heldBack }: Ledger): Promise<SeenAtNewSite> {
  const { move } = run;
  const manifest = await move.crate.manifest().catch(() => undefined);
  const family = familyNamed(manifest?.from.family ?? 'plain');
  const prefix = move.sheet.new.database?.prefix ?? manifest?.from.prefix ?? '';
  const shutOut: string[] = [];
  if (await robotsShutOut(run)) shutOut.push('robots.txt says "Disallow: /"');
  const seen = await newDatabaseOf(move)
    ?.use(connection => lookInto(connection, family, prefix))
    .catch(() => undefined);
  if (seen?.isShutOut) shutOut.push('the setting of the site itself');
  const off = [...heldBack].filter(name => !seen?.active?.includes(name));
  return { shutOut, heldBack: off };
}

async function robotsShutOut({ move: { newFiles } }: StepRun): Promise<boolean> {
  if (!newFiles) return false;
  const robots = await readSmall(treeOf(newFiles), 'robots.txt').catch(() => undefined);
  return robots !== undefined && /^\s*disallow\s*:\s*\/\s*$/im.test(textOf(robots));
}

async function lookInto(
  connection: DatabaseConnection,
  { searchEngineRow, extensionsRow }: Family,
  prefix: string,
): Promise<{ isShutOut: boolean; active: string | undefined }> {
  const cell = (row: NonNullable<typeof extensionsRow>) =>
    connection.cell(prefix + row.table, row.column, row.where);
  return {
    isShutOut: searchEngineRow !== undefined && (await cell(searchEngineRow)) === searchEngineRow.hidden,
    active: extensionsRow && (await cell(extensionsRow)),
  };
}

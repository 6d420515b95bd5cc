import { dirname } from 'node:path';
import type { FilesPlace } from '../../ends/files/place.js';
import type { FilesAccount } from '../../ends/files/protocol.js';
import { hatchAccount } from '../../ends/hatch/account.js';
import { Hatch, removeHatch } from '../../ends/hatch/hatch.js';
import type { WebSite } from '../../ends/http/web-site.js';
import { ledgerOf } from './ledger.js';
import type { Move } from './open.js';
import { siteOf } from './sites.js';
import { noteDeed } from './step.js';

/**
 * Reaches the files of an end through a hatch, which is put there when it is first needed.
 * @param moveOf gives the move once it is whole
 */
export function hatchThrough(
  moveOf: () => Move,
  end: 'old' | 'new',
  isPlain: boolean,
): (account: FilesAccount, path: string, place: string) => FilesAccount {
  return (account, root, place) => {
    const text = account.name + root;
    let site: WebSite | undefined;
    const hatch = new Hatch({
      end,
      get site() {
        site ??= siteOf(moveOf(), end);
        return site;
      },
      folder: account.open(root, place),
      above: account.open(dirname(root), account.name + dirname(root)),
      isPlain,
      note: (name, state) =>
        noteDeed(
          { move: moveOf() },
          'survey',
          state === 'put' ? { kind: 'hatch put', place: text, name } : { kind: 'hatch gone', name },
        ),
      left: async () => {
        const { hatches } = await ledgerOf(moveOf());
        return [...hatches].filter(([, at]) => at === text).map(([name]) => name);
      },
    });
    return hatchAccount(account, root, hatch);
  };
}

/** Takes away the hatches of this run, and those that a killed one left. */
export async function closeHatches(move: Move): Promise<void> {
  for (const { hatch } of placesOf(move)) {
    await hatch?.close();
    await hatch?.removeLeft();
  }
  const { hatches } = await ledgerOf(move);
  for (const [name, at] of hatches)
    for (const place of placesOf(move)) {
      // The sheet speaks of no hatch any more.
      if (place.hatch || place.text !== at) continue;
      const note = () => noteDeed({ move }, 'tidy', { kind: 'hatch gone', name });
      await removeHatch({ folder: place.open(), above: place.above.open(), note }, name);
    }
}

/** What is left of hatches at both ends, as FTP and HTTP see it; undefined where none was ever there. */
export async function hatchRemains(move: Move, signal: AbortSignal): Promise<string[] | undefined> {
  const { records, hatches } = await ledgerOf(move);
  const places = new Set(records.flatMap(({ deed }) => (deed?.kind === 'hatch put' ? [deed.place] : [])));
  if (places.size === 0) return undefined;
  const found: string[] = [];
  for (const { text, hatch } of placesOf(move))
    if (hatch && places.has(text)) found.push(...(await hatch.remains(signal)));
  // Of a place that the sheet does not name any more, only the journal knows.
  for (const [name, at] of hatches) found.push(`${at}/${name}.php`);
  return [...new Set(found)];
}

function placesOf({ oldPlace, newFiles }: Move): FilesPlace[] {
  return [oldPlace, newFiles].filter(place => place !== undefined);
}

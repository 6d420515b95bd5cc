import { dirname } from 'node:path';
import type { FilesAccount } from '../../ends/files/protocol.js';
import { hatchAccount } from '../../ends/hatch/account.js';
import { Hatch } from '../../ends/hatch/hatch.js';
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

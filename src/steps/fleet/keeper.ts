import { dirname, join } from 'node:path';
import { UsageError } from '../../core/errors.js';
import { stateOf } from '../../core/journal.js';
import { FilesAccounts } from '../../ends/files/place.js';
import { Crate } from '../../ends/move-folder/crate.js';
import { MoveFolder } from '../../ends/move-folder/move-folder.js';
import { trustIn } from '../../ends/trust/trust.js';
import { storeOf } from '../store/stores.js';
import type { Fleet } from './fleet.js';
import { KeptFolder } from './kept-folder.js';
import type { KeepWish } from './member.js';
import type { SiteJob } from './runner.js';

/** Commands that need the crate. */
const needCrate = ['rewrite', 'deliver', 'check', 'go'];

/** Brings the move folders of sites to this machine that are kept at the store of a fleet. */
export class Keeper {
  private readonly fleet: Fleet;

  constructor(fleet: Fleet) {
    this.fleet = fleet;
  }

  /**
   * Takes the move folder of a site over.
   * @returns what its process is given, and the commands that come before its own: the crate is not kept, and is taken again
   */
  async takeOver(
    { name, sheet, command }: SiteJob,
    fence: number,
    signal: AbortSignal,
  ): Promise<{ readonly keep: string; readonly before: readonly (readonly string[])[] }> {
    const { wish, folder: root, environment } = this.fleet;
    const { FLEET_PASSPHRASE: passphrase } = environment;
    if (!passphrase) {
      throw new UsageError({
        doing: 'Keeping the move folder at the store',
        cause: 'FLEET_PASSPHRASE is not set',
        remedy: 'Put it into .env beside fleet.yaml, on every machine the same',
      });
    }
    const accounts = new FilesAccounts(root, trustIn(root));
    const store = await storeOf({ accounts, crate: { store: wish.keep }, secrets: join(root, '.env') });
    try {
      const folder = dirname(sheet);
      const recipient = await KeptFolder.takeOver({ store, site: name, fence, folder }, passphrase, signal);
      const keep: KeepWish = { site: name, store: wish.keep, recipient };
      return { keep: JSON.stringify(keep), before: await this.commandsBefore(folder, sheet, command) };
    } finally {
      await store.close();
      await accounts.close();
    }
  }

  private async commandsBefore(
    folder: string,
    sheet: string,
    command: readonly string[],
  ): Promise<readonly (readonly string[])[]> {
    const packed = stateOf(await new MoveFolder(sheet).readJournal(), 'pack');
    if (packed.state === 'not yet' || !needCrate.includes(command[0]!)) return [];
    // The one that the journal speaks of: what is left of an earlier turn of this machine may be older.
    const isHere = (await new Crate(join(folder, 'crate')).identity()) === packed.record?.result?.crate;
    if (isHere) return [];
    return command[0] === 'deliver' || command[0] === 'check'
      ? [['pack', '--again'], ['rewrite']]
      : [['pack', '--again']];
  }
}

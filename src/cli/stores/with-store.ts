import { access } from 'node:fs/promises';
import { dirname, resolve } from 'node:path';
import type { Store } from '../../ends/store/store.js';
import type { Move } from '../../steps/move/open.js';
import { endSignal } from '../program/with-move.js';
import type { Common } from '../terminal/common-options.js';
import { Terminal } from '../terminal/terminal.js';

/** What a command on a store is given. */
interface StoreWork {
  readonly store: Store;
  readonly terminal: Terminal;
  readonly signal: AbortSignal;
  /** Undefined where there is no sheet. */
  readonly move: Move | undefined;
  /** Of the sheet. */
  readonly passphrase: string | undefined;
}

/** Opens a store and does something with it. Where a store is named, no sheet is needed. */
export async function withStore(
  argv: Common & { readonly store: string | undefined },
  work: (given: StoreWork) => Promise<void>,
): Promise<void> {
  const [{ openMove }, { storeOf, userOf }, { FilesAccounts }, { trustIn }, { askTrust }] = await Promise.all(
    [
      import('../../steps/move/open.js'),
      import('../../steps/store/stores.js'),
      import('../../ends/files/place.js'),
      import('../../ends/trust/trust.js'),
      import('../terminal/ask.js'),
    ],
  );
  const signal = endSignal();
  const terminal = await Terminal.open(argv);
  const folder = dirname(resolve(argv.sheet));
  const isWithout =
    argv.store !== undefined &&
    (await access(argv.sheet).then(
      () => false,
      () => true,
    ));
  const move = isWithout ? undefined : await openMove(argv.sheet, process.env, askTrust);
  const user = move
    ? userOf(move)
    : {
        accounts: new FilesAccounts(process.cwd(), trustIn(folder, askTrust)),
        crate: undefined,
        secrets: resolve(folder, '.env'),
      };
  let store: Store | undefined;
  try {
    store = await storeOf(user, argv.store);
    await work({ store, terminal, signal, move, passphrase: user.crate?.passphrase });
  } finally {
    terminal.endBar();
    await store?.close();
    await user.accounts.close();
    await move?.sessions.close();
  }
}

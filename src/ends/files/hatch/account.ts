import type { Hatch } from '../../hatch/hatch.js';
import type { FilesAccount } from '../protocol.js';
import { HatchFiles } from './files.js';

/**
 * An account whose web root is reached through a hatch. What is outside of the web root stays with the account.
 * @param root the path of the web root
 */
export function hatchAccount(account: FilesAccount, root: string, hatch: Hatch): FilesAccount {
  const folder = root.endsWith('/') ? root : `${root}/`;
  const below = (path: string) =>
    path === root ? '' : path.startsWith(folder) ? path.slice(folder.length) : undefined;
  return {
    name: account.name,
    isLocal: false,
    inClear: account.inClear,
    hatch,
    root,
    open(path, place) {
      const end = account.open(path, place);
      const rest = below(path);
      return rest === undefined ? end : new HatchFiles(hatch, end, rest);
    },
    openStraight: account.open,
    ...(account.landing ? { landing: account.landing } : {}),
    ...(account.limitConnections ? { limitConnections: account.limitConnections } : {}),
    onWaiting(report) {
      hatch.report = report;
    },
    close: () => hatch.close(),
  };
}

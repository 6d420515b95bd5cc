import { parseAddress } from '../../core/address/address.js';
import { isReservedName } from '../../core/address/reserved.js';
import { WebSite } from '../../ends/http.js';
import type { Move } from './open.js';

/** The site at an end of a move, as it is reached before and after the DNS leads there. */
export function siteOf({ sheet, trust, ...move }: Move, end: 'old' | 'new'): WebSite {
  const { reach, certificate } = sheet[end];
  return new WebSite(
    end === 'old' ? move.oldAddress : move.newAddress,
    reach === undefined ? undefined : parseAddress(reach),
    { certificates: trust.certificates, wanted: certificate, key: `${end}.certificate` },
  );
}

/** The same, but undefined where nobody is to be asked: its address is set aside for examples, and nothing else is named. */
export function askableSiteOf(move: Move, end: 'old' | 'new'): WebSite | undefined {
  const { host } = end === 'old' ? move.oldAddress : move.newAddress;
  return move.sheet[end].reach === undefined && isReservedName(host) ? undefined : siteOf(move, end);
}

import { type Address, parseAddress } from '../../core/address/address.js';
import { isReservedName } from '../../core/address/reserved.js';
import type { Sheet } from '../../core/sheet/schema.js';
import { WebSite } from '../../ends/http/web-site.js';
import type { Trust } from '../../ends/trust/trust.js';

/** What is to be known of a move to ask its sites. */
export interface SitesOfMove {
  readonly sheet: Sheet;
  readonly oldAddress: Address;
  readonly newAddress: Address;
  readonly trust: Trust;
}

/** How a site is asked. */
interface SiteOptions {
  readonly atOnce?: number;
  /** Pages are looked at although the certificate is not accepted. */
  readonly looksAnyway?: boolean;
}

/** The site at an end of a move, as it is reached before and after the DNS leads there. */
export function siteOf(
  { sheet, trust, ...move }: SitesOfMove,
  end: 'old' | 'new',
  { looksAnyway = false, ...options }: SiteOptions = {},
): WebSite {
  const { reach, certificate, 'reach-https': https } = sheet[end];
  return new WebSite(
    end === 'old' ? move.oldAddress : move.newAddress,
    reach === undefined ? undefined : parseAddress(reach),
    {
      ...options,
      https: https === undefined ? undefined : parseAddress(https),
      trust: {
        certificates: trust.certificates,
        wanted: certificate,
        key: `${end}.certificate`,
        looksAnyway,
      },
    },
  );
}

/** The same, but undefined where nobody is to be asked: its address is set aside for examples, and nothing else is named. */
export function askableSiteOf(
  move: SitesOfMove,
  end: 'old' | 'new',
  options: SiteOptions = {},
): WebSite | undefined {
  const { host } = end === 'old' ? move.oldAddress : move.newAddress;
  return move.sheet[end].reach === undefined && isReservedName(host) ? undefined : siteOf(move, end, options);
}

import { formatAddress, parseAddress } from '../../core/address/address.js';
import { DamageError } from '../../core/errors.js';
import type { Finding } from '../../core/findings/findings.js';
import { type JudgedSet, judged } from '../../core/redirects/faults.js';
import { type ListLine, readList, singlesOf } from '../../core/redirects/plan/list.js';
import { type RedirectSet, redirectSet } from '../../core/redirects/redirect-set.js';
import { parseRule } from '../../core/redirects/rules/redirect-rule.js';
import { ledgerOf } from '../move/ledger.js';
import type { Move } from '../move/open.js';

export const listFile = 'redirects.csv';

/** The redirects of a move, as the sheet and `redirects.csv` say now. */
export interface MoveRedirects {
  readonly set: RedirectSet;
  readonly lines: readonly ListLine[];
  readonly findings: readonly Finding[];
}

/**
 * Reads the redirects of a move. What leads in a circle is left out.
 * @param isFinal whether they are permanent, whatever the sheet begins with; those of a closed move are
 * @throws UsageError for a rule that is none, DamageError for a list that is no CSV
 */
export async function redirectsOf(move: Move, isFinal = false): Promise<MoveRedirects> {
  const isClosed = (await ledgerOf(move)).life === 'closed';
  return redirectsWith(move, await readLines(move), isFinal || isClosed);
}

/** The same with other lines than those of the file. */
export function redirectsWith(move: Move, lines: readonly ListLine[], isFinal = false): MoveRedirects {
  const { redirects, old } = move.sheet;
  const also = old.also.map(parseAddress);
  const plain = redirectSet(move.oldAddress, also, move.newAddress);
  const { singles, findings } = singlesOf(lines, plain.from, move.newAddress);
  const whole = redirectSet(move.oldAddress, also, move.newAddress, {
    singles,
    rules: redirects.rules.map(rule => parseRule(rule, move.newAddress)),
    options: {
      isTemporary: redirects.first === 'temporary' && !isFinal,
      anyCase: redirects['letter-case'] === 'any',
      query: redirects.query,
      leavesHatches: [old, move.sheet.new].some(({ hatch }) => hatch !== undefined),
    },
  });
  const { set, findings: more }: JudgedSet = judged(whole);
  return { set, lines, findings: [...findings, ...more] };
}

async function readLines({ folder }: Move): Promise<ListLine[]> {
  const text = (await folder.read(listFile)) ?? '';
  if (text.trim() === '') return [];
  try {
    return readList(text);
  } catch (cause) {
    throw new DamageError(
      {
        doing: `Reading ${folder.at(listFile)}`,
        cause: (cause as Error).message,
        remedy: 'Save it again as CSV, with the columns from, to, status, why and hits',
      },
      { cause },
    );
  }
}

/** Whether the site is at the same address before and after: then the redirects belong to the new host. */
export function staysThere(move: Move): boolean {
  return formatAddress(move.oldAddress) === formatAddress(move.newAddress);
}

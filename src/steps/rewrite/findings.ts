import { type Finding, finding } from '../../core/findings/findings.js';
import type { RewriteSummary } from '../../core/rewrite/report/summary.js';
import { agreeing, counted } from '../../core/text/numbers.js';

type Place = RewriteSummary['places'][number];

/** What of a rewriting an administrator should know about. */
export function rewriteFindings(summary: RewriteSummary): Finding[] {
  return [
    ...noneFindings(summary),
    ...summary.places.flatMap(placeFindings),
    ...mendedFindings(summary),
    ...base64Findings(summary),
    ...mailFindings(summary),
  ];
}

/** Nothing was found: seldom right, and mostly an address that was never the site's. */
function noneFindings({ pairs, totals, rows }: RewriteSummary): Finding[] {
  const [first] = pairs;
  if (first === undefined || rows === 0 || totals.occurrences + totals.left > 0) return [];
  return [
    finding({
      level: 'warn',
      code: 'no-address-found',
      place: first.from,
      what: `No old address is in ${counted(rows, 'row')}; nothing was changed`,
      remedy:
        'Compare the old address with what the site uses: scheme, www, port, folder. "able-porter survey" lists the hosts in the data',
    }),
  ];
}

function placeFindings(place: Place): Finding[] {
  const { damaged, left, missSamples } = place;
  const findings: Finding[] = [];
  if (damaged > 0) {
    findings.push(
      finding({
        level: 'warn',
        code: 'value-damaged',
        place: nameOf(place),
        what: `${counted(damaged, 'value')} ${agreeing(damaged, 'looks', 'look')} serialized and cannot be read; left byte for byte (${missSamples.damaged})`,
        remedy:
          'The site cannot read them either: rewrite.mend: true (--mend) repairs those with only one possible repair; save the others again at the old site',
      }),
    );
  }
  if (place.table === 'statements' && left > 0) {
    findings.push(
      finding({
        level: 'warn',
        code: 'address-in-statement',
        place: nameOf(place),
        what: `${counted(left, 'old address', 'old addresses')} ${agreeing(left, 'is', 'are')} outside of rows and ${agreeing(left, 'was', 'were')} left (${missSamples.left})`,
        remedy: 'Look at the statement; views, triggers and default values are changed by hand',
      }),
    );
  }
  return findings;
}

function mendedFindings({ places, totals }: RewriteSummary): Finding[] {
  const { mended } = totals;
  if (mended === 0) return [];
  return [
    finding({
      level: 'note',
      code: 'value-mended',
      place: namesOf(places.filter(place => place.mended > 0)),
      what: `The lengths of ${mended} damaged serialized ${agreeing(mended, 'value', 'values')} were corrected`,
      remedy: 'Look at the settings kept there: the old site could not read them',
    }),
  ];
}

function base64Findings({ places }: RewriteSummary): Finding[] {
  const encoded = places.filter(place => place.misses['in Base64']);
  if (encoded.length === 0) return [];
  const times = encoded.reduce((sum, { misses }) => sum + (misses['in Base64'] ?? 0), 0);
  return [
    finding({
      level: 'warn',
      code: 'base64-left',
      place: namesOf(encoded),
      what: `${counted(times, 'old address', 'old addresses')} ${agreeing(times, 'is', 'are')} in Base64 and ${agreeing(times, 'was', 'were')} left`,
      remedy: 'Rewrite them with rewrite.open-base64: true (--open-base64)',
    }),
  ];
}

function mailFindings({ totals }: RewriteSummary): Finding[] {
  const mail = totals.misses['mail address'] ?? 0;
  if (mail === 0) return [];
  return [
    finding({
      level: 'note',
      code: 'mail-left',
      place: 'values',
      what: `${counted(mail, 'mail address', 'mail addresses')} at an old host ${agreeing(mail, 'was', 'were')} left`,
      remedy: 'If the mailboxes move too, set rewrite.mail: true (--mail)',
    }),
  ];
}

function nameOf({ table, column }: Place): string {
  return `${table}.${column}`;
}

function namesOf(places: readonly Place[]): string {
  return places.map(nameOf).join(', ');
}

import { type Finding, finding } from '../../core/findings/findings.js';
import type { RewriteSummary } from '../../core/rewrite/report/summary.js';

/** What of a rewriting an administrator should know about. */
export function rewriteFindings(summary: RewriteSummary): Finding[] {
  const findings: Finding[] = [];
  for (const place of summary.places) {
    const where = `${place.table}.${place.column}`;
    if (place.damaged > 0) {
      findings.push(
        finding({
          level: 'warn',
          code: 'value-damaged',
          place: where,
          what: `${place.damaged} ${place.damaged === 1 ? 'value looks' : 'values look'} serialized and cannot be read; left byte for byte (${place.missSamples.damaged})`,
          remedy:
            'The site cannot read them either: rewrite.mend: true (--mend) repairs those whose lengths follow without doubt; save the others again at the old site',
        }),
      );
    }
    if (place.table === 'statements' && place.left > 0) {
      findings.push(
        finding({
          level: 'warn',
          code: 'address-in-statement',
          place: where,
          what: `${place.left} old addresses are outside of rows and were left (${place.missSamples.left})`,
          remedy: 'Look at the statement; views, triggers and default values are changed by hand',
        }),
      );
    }
  }
  const { mended } = summary.totals;
  if (mended > 0) {
    const places = summary.places.filter(place => place.mended > 0);
    findings.push(
      finding({
        level: 'note',
        code: 'value-mended',
        place: places.map(({ table, column }) => `${table}.${column}`).join(', '),
        what: `The lengths of ${mended} damaged serialized ${mended === 1 ? 'value' : 'values'} were corrected`,
        remedy: 'Look at the settings kept there: the old site could not read them',
      }),
    );
  }
  const encoded = summary.places.filter(place => place.misses['in Base64']);
  if (encoded.length > 0) {
    const times = encoded.reduce((sum, place) => sum + place.misses['in Base64']!, 0);
    findings.push(
      finding({
        level: 'warn',
        code: 'base64-left',
        place: encoded.map(({ table, column }) => `${table}.${column}`).join(', '),
        what: `${times} old ${times === 1 ? 'address is' : 'addresses are'} in Base64 and ${times === 1 ? 'was' : 'were'} left`,
        remedy: 'Rewrite them with rewrite.open-base64: true (--open-base64)',
      }),
    );
  }
  const mail = summary.totals.misses['mail address'] ?? 0;
  if (mail > 0) {
    findings.push(
      finding({
        level: 'note',
        code: 'mail-left',
        place: 'values',
        what: `${mail} mail ${mail === 1 ? 'address' : 'addresses'} at an old host ${mail === 1 ? 'was' : 'were'} left`,
        remedy: 'If the mailboxes move too, set rewrite.mail: true (--mail)',
      }),
    );
  }
  return findings;
}

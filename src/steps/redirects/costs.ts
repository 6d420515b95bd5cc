import { formatAddress } from '../../core/address/address.js';
import { type Finding, finding } from '../../core/findings/findings.js';
import type { RedirectSet } from '../../core/redirects/redirect-set.js';
import { counted } from '../../core/text/numbers.js';
import type { WebSite } from '../../ends/http/web-site.js';
import { lookAtCertificate } from '../../ends/trust/certificate.js';
import type { StepRun } from '../move/step.js';
import type { ReadLogs } from './logs.js';

/** What redirects cost and need, for as long as they stay. */
export async function costFindings(
  run: StepRun,
  set: RedirectSet,
  old: WebSite | undefined,
  logs: ReadLogs | undefined,
): Promise<Finding[]> {
  const [from] = set.from;
  const place = formatAddress(from);
  return [
    firstFinding(set, place),
    ...(old ? await httpsFindings(run, set, old) : []),
    keepFinding(place, logs),
  ];
}

function firstFinding({ options }: RedirectSet, place: string): Finding {
  if (options.isTemporary)
    return finding({
      level: 'note',
      code: 'redirect-temporary',
      place,
      what: 'The redirects are temporary (302 and 307): browsers do not remember them',
      remedy:
        'Run "able-porter tidy" when they have proved right; it makes them permanent where they are in place',
    });
  return finding({
    level: 'note',
    code: 'redirect-permanent',
    place,
    what: 'The redirects are permanent (301 and 308): a browser that has seen one remembers it, and does not ask again when you change it',
    remedy: 'To try them first, write redirects: { first: temporary } into the sheet',
  });
}

async function httpsFindings({ move, signal }: StepRun, set: RedirectSet, old: WebSite): Promise<Finding[]> {
  const [from] = set.from;
  const findings: Finding[] = [];
  const home = await old.get('/', signal).catch(() => undefined);
  signal.throwIfAborted();
  const hsts = home && String(home.headers['strict-transport-security'] ?? '');
  const [, age] = /max-age="?(\d+)/i.exec(hsts ?? '') ?? [];
  const days = Math.floor(Number(age ?? 0) / 86_400);
  if (days > 0)
    findings.push(
      finding({
        level: 'note',
        code: 'redirect-hsts',
        place: `https://${from.host}`,
        what: `Browsers ask ${from.host} over HTTPS only, for ${counted(days, 'day')} after their last visit (Strict-Transport-Security${/includesubdomains/i.test(hsts!) ? ', with all names below it' : ''})`,
        remedy:
          'Without a valid certificate there, they see an error in place of the redirect: keep it at least that long',
      }),
    );
  const { reach } = move.sheet.old;
  const there = reach === undefined ? { host: from.host, port: from.port ?? 443 } : httpsOf(reach);
  if (from.scheme !== 'https') return findings;
  const seen =
    there && (await lookAtCertificate(there.host, there.port, from.host, signal).catch(() => undefined));
  signal.throwIfAborted();
  if (!seen) return [...findings, unseenCertificate(from.host, there !== undefined)];
  const until = seen.until.toISOString().slice(0, 10);
  const lasts = Math.floor((seen.until.getTime() - Date.now()) / 86_400_000);
  findings.push(
    finding({
      level: 'note',
      code: 'redirect-certificate',
      place: `https://${from.host}`,
      what: `The certificate of ${from.host} ends on ${until}, in ${counted(Math.max(0, lasts), 'day')} (${seen.issuer}); the redirects over HTTPS need one for as long as they stay`,
      remedy: 'Keep what renews it at the old host, or have one made where the redirects will be',
    }),
  );
  return findings;
}

function unseenCertificate(host: string, isAsked: boolean): Finding {
  return finding({
    level: 'note',
    code: 'redirect-certificate',
    place: `https://${host}`,
    what: `The certificate of ${host} was not looked at: ${isAsked ? 'nobody answers over HTTPS there' : 'old.reach is no HTTPS address'}`,
    remedy:
      'The redirects over HTTPS need a valid one for as long as they stay: find out when it ends and what renews it',
  });
}

function httpsOf(reach: string): { host: string; port: number } | undefined {
  const url = new URL(reach);
  return url.protocol === 'https:' ? { host: url.hostname, port: Number(url.port || 443) } : undefined;
}

/** How long, by what the logs say: search engines need a year to follow; people follow old links for longer. */
function keepFinding(place: string, logs: ReadLogs | undefined): Finding {
  const perDay = logs?.period ? logs.hits / logs.period.days : undefined;
  const often =
    perDay === undefined
      ? undefined
      : perDay >= 10
        ? counted(Math.round(perDay), 'time')
        : `${perDay.toFixed(1)} times`;
  return finding({
    level: 'note',
    code: 'redirect-keep',
    place,
    what:
      often === undefined
        ? 'Without access logs nobody knows how often the old addresses are asked for'
        : `People ask for the old addresses ${often} a day, by the access logs`,
    remedy:
      'Keep the old domain and its redirects for at least a year, and as long as people come that way; read the logs again before you end them',
  });
}

import { count, counted, moment } from '../../core/text/numbers.js';
import { sizeText } from '../../core/text/sizes.js';
import type { ReportedSite } from '../../steps/fleet/report.js';
import { version } from '../../version.js';
import { type Html, html } from '../show/html.js';
import { contents, section, wholePage } from '../show/report-parts.js';

const classes = {
  done: 'good',
  'not yet': 'dim',
  begun: 'open',
  stopped: 'bad',
  failed: 'bad',
  unreadable: 'bad',
} as const;
/** How a comparison with the old site is shown. */
const lookTexts = {
  'seen good': { text: 'the same', kind: 'good' },
  'not looked at': { text: 'the same as far as looked at', kind: 'open' },
  'seen bad': { text: 'differs', kind: 'bad' },
} as const;

/** The report of a fleet as one page: all sites, the worst first, each leading to its own. */
export function fleetPage(name: string, sites: readonly ReportedSite[]): string {
  const main = html`${troubleSection(sites)}
${sitesSection(sites)}`;
  const made = sites
    .flatMap(({ at }) => at ?? [])
    .sort()
    .at(-1);
  return wholePage(
    `The fleet ${name}`,
    html`<header>
<h1>The fleet ${name}</h1>
<p class="way">${counted(sites.length, 'site')}</p>
${verdict(sites)}
</header>
<main>
${figures(sites)}
${contents(main)}
${main}
</main>
<footer>By able-porter ${version}, of what the moves measured${made !== undefined && ` up to ${moment(made)}`}.</footer>`,
  );
}

function troubled(sites: readonly ReportedSite[]): readonly ReportedSite[] {
  return sites.filter(
    ({ state, looked }) =>
      ['stopped', 'failed', 'unreadable', 'begun'].includes(state) || looked === 'seen bad',
  );
}

function verdict(sites: readonly ReportedSite[]): Html {
  const bad = troubled(sites).length;
  if (bad > 0) return html`<p class="verdict bad">${counted(bad, 'site needs', 'sites need')} a person.</p>`;
  const partly = sites.filter(({ looked }) => looked === 'not looked at').length;
  const not = sites.filter(({ looked }) => looked === undefined).length;
  if (partly + not === 0) return html`<p class="verdict good">Every new site is the old one, moved.</p>`;
  const parts = [
    ...(partly > 0
      ? [`of ${counted(partly, 'site')} something was not looked at, as the page of each says`]
      : []),
    ...(not > 0 ? [`${counted(not, 'site was', 'sites were')} not compared yet`] : []),
  ];
  return html`<p class="verdict open">Nothing differs as far as was looked at; ${parts.join(', and ')}.</p>`;
}

function figures(sites: readonly ReportedSite[]): Html {
  const sum = (pick: (site: ReportedSite) => number | undefined) =>
    sites.reduce((all, site) => all + (pick(site) ?? 0), 0);
  const of = (pick: (site: ReportedSite) => boolean) => sites.filter(pick).length;
  const cards: [string, string][] = [
    [`${count(of(({ done }) => done.includes('deliver')))} of ${count(sites.length)}`, 'sites delivered'],
    [count(of(({ life }) => life !== 'open')), 'live or closed'],
    [count(sum(({ counts }) => counts?.files)), `files, ${sizeText(sum(({ counts }) => counts?.bytes))}`],
    [
      count(sum(({ counts }) => counts?.rows)),
      `rows in ${counted(
        sum(({ counts }) => counts?.tables),
        'table',
      )}`,
    ],
    [
      `${count(sum(({ tables }) => tables?.equal))} of ${count(sum(({ tables }) => tables?.of))}`,
      'tables equal',
    ],
    [
      `${count(sum(({ pages }) => pages?.same))} of ${count(sum(({ pages }) => pages?.of))}`,
      'pages the same',
    ],
  ];
  return html`<div class="figures">${cards.map(([figure, what]) => html`<div><b>${figure}</b>${what}</div>`)}</div>`;
}

function troubleSection(sites: readonly ReportedSite[]): Html {
  const bad = troubled(sites);
  if (bad.length === 0) return html``;
  const items = bad.map(
    site => html`<li class="stop"><b>${link(site)}</b> ${site.state === 'done' ? 'was compared, and is not the old site yet' : `${site.state} at ${site.step ?? 'the beginning'}`}
<dl><dt>why</dt><dd>${site.why ?? 'see its page'}</dd></dl></li>`,
  );
  return section('Sites that need a person', '', html`<ul class="findings">${items}</ul>`);
}

function sitesSection(sites: readonly ReportedSite[]): Html {
  const rows = sites.map(site => {
    const { to, state, step, life, counts, pages, tables, looked, findings } = site;
    return html`<tr><td>${link(site)}<br><span class="dim">${to}</span></td>
<td class="${classes[state]}">${state}${step !== undefined && html` <span class="dim">${step}</span>`}</td><td>${life}</td>
<td class="n">${counts ? sizeText(counts.bytes) : ''}</td><td class="n">${tables ? `${tables.equal} of ${tables.of}` : ''}</td>
<td class="n">${pages ? `${pages.same} of ${pages.of}` : ''}</td>
<td class="${looked ? lookTexts[looked].kind : 'dim'}">${looked ? lookTexts[looked].text : 'not yet'}</td>
<td>${findingsOf(findings)}</td></tr>`;
  });
  return section(
    'All sites',
    'the worst first',
    html`<div class="wide"><table><thead><tr><th>site</th><th>state</th><th>life</th><th class="n">size</th><th class="n">tables equal</th><th class="n">pages the same</th><th>compared</th><th>findings</th></tr></thead><tbody>${rows}</tbody></table></div>`,
  );
}

function link({ site, page }: ReportedSite): Html {
  return html`<a href="${encodeURI(page)}">${site}</a>`;
}

function findingsOf({ stop, warn, note }: ReportedSite['findings']): Html {
  const part = (n: number, what: string, kind: string) =>
    n > 0 && html`<span class="${kind}">${n} ${what}</span> `;
  return html`${part(stop, 'stop', 'bad')}${part(warn, 'warn', 'open')}${part(note, 'note', 'dim')}`;
}

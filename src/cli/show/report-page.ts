import { type PageComparison, whyOf } from '../../core/pages/compare/compare-pages.js';
import { leftAt } from '../../core/rewrite/report/left-list.js';
import { placeName, type Sample } from '../../core/rewrite/report/tally.js';
import { count, counted, moment, seconds } from '../../core/text/numbers.js';
import { sizeText as bytes } from '../../core/text/sizes.js';
import { headlineOf, worstOf } from '../../core/verdict.js';
import type { MoveReport, ReportedStep, StepResults } from '../../steps/report.js';
import { clockTime } from './cutover.js';
import { plannedOr } from './go.js';
import { type Html, html } from './html.js';
import {
  bad,
  block,
  contents,
  findingsList,
  folded,
  good,
  section,
  table,
  wholePage,
} from './report-parts.js';

/** The report of a move as one page that needs nothing else: no network, no script. */
export function reportPage(report: MoveReport): string {
  const { name, from, to, made, by, results, steps } = report;
  const main = html`${toDoSection(report)}
${stopsSection(report)}
${stepsSection(steps)}
${findingsSection(report)}
${proofSection(results, steps)}
${pagesSection(results, steps)}
${rewriteSection(results, steps)}
${redirectsSection(results, steps)}
${cutoverSection(results, steps)}
${wayBackSection(results)}`;
  const page = wholePage(
    `The move of ${name}`,
    html`<header>
<h1>The move of ${name}</h1>
<p class="way"><span>${from}</span> → <span>${to}</span></p>
${verdict(report)}
</header>
<main>
${figures(results)}
${contents(main)}
${main}
</main>
<footer>By ${by}, of what the steps measured${made !== undefined && ` up to ${moment(made)}`}; each part says when.</footer>`,
  );
  return page;
}

/** Says no more than was looked at. */
function verdict({ steps, results, findings }: MoveReport): Html {
  const failed = steps.find(({ state }) => state === 'failed' || state === 'begun');
  if (failed)
    return html`<p class="verdict bad">${failed.step} ${failed.state === 'begun' ? 'was begun and did not end' : `failed: ${failed.error ?? ''}`}</p>`;
  const stops = findings.filter(({ level }) => level === 'stop').length;
  if (stops > 0)
    return html`<p class="verdict bad">${counted(stops, 'thing stops', 'things stop')} the move.</p>`;
  const { check } = results;
  if (steps.some(({ step, state }) => step === 'check' && state === 'stale'))
    return html`<p class="verdict open">The new site was changed by a step since it was compared with the old one.</p>`;
  if (!check) return html`<p class="verdict open">The new site was not compared with the old one yet.</p>`;
  const classes = { 'seen good': 'good', 'not looked at': 'open', 'seen bad': 'bad' };
  return html`<p class="verdict ${classes[worstOf(check.seen)]}">${headlineOf(check.seen)}</p>
<table class="seen"><tbody>${check.seen.map(({ what, look, text }) => html`<tr><td>${what}</td><td class="${classes[look]}">${look}</td><td>${text}</td></tr>`)}</tbody></table>`;
}

function figures({ pack, rewrite, check }: StepResults): Html {
  const cards: [string, string][] = [];
  if (pack) {
    cards.push([count(pack.counts.files), `files, ${bytes(pack.counts.bytes)}`]);
    cards.push([count(pack.counts.rows), `rows in ${counted(pack.counts.tables, 'table')}`]);
  }
  if (rewrite) {
    const sum = (pick: 'occurrences' | 'changed') =>
      (rewrite.dump?.totals[pick] ?? 0) + rewrite.files.totals[pick];
    cards.push([count(sum('occurrences')), `addresses rewritten in ${counted(sum('changed'), 'value')}`]);
  }
  if (check && check.tables.length > 0) {
    const equal = check.tables.filter(one => one.equal).length;
    cards.push([`${count(equal)} of ${count(check.tables.length)}`, 'tables equal']);
  }
  if (check && check.pages.length > 0) {
    const same = check.pages.filter(({ verdict: seen }) => seen === 'same').length;
    cards.push([`${count(same)} of ${count(check.pages.length)}`, 'pages the same']);
  }
  return html`<div class="figures">${cards.map(([figure, what]) => html`<div><b>${figure}</b>${what}</div>`)}</div>`;
}

function stepsSection(steps: readonly ReportedStep[]): Html {
  const shown = steps.filter(
    ({ step, state }) => !['undo', 'configure'].includes(step) || state !== 'not yet',
  );
  const classes = {
    'not yet': 'dim',
    begun: 'bad',
    done: 'good',
    stale: 'open',
    stopped: 'bad',
    failed: 'bad',
  };
  const rows = shown.map(({ step, state, at, seconds: took, error }) => [
    step,
    html`<span class="${plannedOr(step, state) === state ? classes[state] : 'open'}">${plannedOr(step, state)}</span>${error === undefined ? '' : `: ${error}`}`,
    at === undefined ? '' : moment(at),
    took === undefined ? '' : seconds(took),
  ]);
  return section('The steps', '', table(['step', 'state', 'when', 'took'], rows, [3]));
}

function toDoSection({ toDo }: MoveReport): Html {
  return section('Left to do by hand', '', html`<ol>${toDo.map(line => html`<li>${line}</li>`)}</ol>`);
}

/** What keeps the move from going on, before everything else. */
function stopsSection({ findings }: MoveReport): Html {
  const stops = findings.filter(({ level }) => level === 'stop');
  return stops.length === 0 ? html`` : section('What stops the move', '', findingsList(stops));
}

function findingsSection({ findings }: MoveReport): Html {
  const others = findings.filter(({ level }) => level !== 'stop');
  return section(
    others.length < findings.length ? 'What else was found' : 'What was found',
    '',
    others.length === 0 ? html`<p>Nothing.</p>` : findingsList(others),
  );
}

function proofSection({ check, deliver }: StepResults, steps: readonly ReportedStep[]): Html {
  if (!check) return html``;
  const { files, tables, leftOver } = check;
  const parts: Html[] = [];
  if (files) {
    const wrong = [
      ...files.missing.map(path => ['missing', path]),
      ...files.different.map(path => ['different', path]),
    ];
    const whole = `${counted(files.compared, 'file')} compared by checksum: ${count(files.equal)} equal, ${count(files.edited)} adapted to the new host, ${count(files.different.length)} different, ${count(files.missing.length)} missing`;
    parts.push(html`<p>${whole}.</p>`);
    if (wrong.length > 0) parts.push(table(['', 'file'], wrong));
  }
  if (tables.length > 0) {
    const rows = tables.map(({ table: old, newTable, oldRows, newRows, taken, equal, since }) => [
      old,
      newTable,
      count(oldRows),
      newRows === undefined ? 'not there' : count(newRows),
      taken ? count(taken) : '',
      equal ? good('equal') : since ? 'written to since, equal when delivered' : bad('not equal'),
    ]);
    const heads = ['old table', 'new table', 'old rows', 'new rows', 'removed', 'content'];
    const isEqual = ({ equal }: (typeof tables)[number]) => equal;
    const odd = rows.filter((_, i) => !isEqual(tables[i]!));
    if (odd.length > 0) parts.push(table(heads, odd, [2, 3, 4]));
    const same = rows.filter((_, i) => isEqual(tables[i]!));
    if (same.length > 0)
      parts.push(folded(`${counted(same.length, 'table')} equal, row by row`, table(heads, same, [2, 3, 4])));
  }
  const programs = deliver?.database?.programs ?? [];
  if (programs.length > 0) parts.push(html`<p>Views, triggers and the like: ${count(programs.length)}.</p>`);
  if (leftOver.length === 0) parts.push(html`<p>No old address is left.</p>`);
  else {
    const rows = leftOver.map(({ place, count: times, sample, why }) => [why, count(times), place, sample]);
    parts.push(
      html`<h3>Old addresses that are left</h3>`,
      table(['why', 'times', 'where', 'for example'], rows, [1]),
    );
  }
  return section('Old and new, compared', seen(steps, 'check'), parts);
}

function pagesSection({ check }: StepResults, steps: readonly ReportedStep[]): Html {
  if (!check || check.pages.length === 0) return html``;
  const isSame = ({ verdict: as }: PageComparison) => as === 'same' || as === 'old fails too';
  const rowOf = (page: PageComparison) => [
    page.path,
    String(page.oldStatus || '–'),
    String(page.newStatus || '–'),
    page.oldTitle === page.newTitle ? page.oldTitle : `${page.oldTitle} → ${page.newTitle}`,
    isSame(page) ? good(page.verdict) : bad(whyOf(page)),
  ];
  const heads = ['page', 'old', 'new', 'title', ''];
  const [odd, same] = [check.pages.filter(page => !isSame(page)), check.pages.filter(isSame)];
  const parts: Html[] = [];
  if (odd.length > 0) parts.push(table(heads, odd.map(rowOf), [1, 2]));
  if (same.length > 0)
    parts.push(folded(`${counted(same.length, 'page')} the same`, table(heads, same.map(rowOf), [1, 2])));
  if (check.assets > 0)
    parts.push(html`<p>${counted(check.assets, 'file')} that these pages load were looked at.</p>`);
  const looks = check.looks ?? [];
  if (looks.length > 0)
    parts.push(
      html`<p>${counted(looks.length, 'pair')} of pictures were taken in a browser; check.html shows them.</p>`,
    );
  return section('Pages side by side', seen(steps, 'check'), parts);
}

function rewriteSection({ rewrite }: StepResults, steps: readonly ReportedStep[]): Html {
  if (!rewrite) return html``;
  const { dump, files, prefix } = rewrite;
  const parts: Html[] = [];
  if (dump) {
    const { totals, pairs } = dump;
    const rows = pairs.map(({ from, to }, i) => [from, to, count(totals.pairs[i] ?? 0)]);
    parts.push(table(['old', 'new', 'times'], rows, [2]));
    parts.push(bars(totals.forms));
  }
  if (prefix) parts.push(html`<p>Table prefix <code>${prefix.from}</code> → <code>${prefix.to}</code></p>`);
  const places = [...(dump?.places ?? []), ...files.places];
  const changed = places.filter(place => place.changed > 0);
  const rows = changed.map(place => [
    placeName(place),
    count(place.changed),
    count(Object.values(place.forms).reduce((sum, n) => sum + n, 0)),
    place.samples[0] ? sampleOf(place.samples[0]) : '',
  ]);
  if (rows.length > 0) parts.push(table(['where', 'values', 'times', 'for example'], rows, [1, 2]));
  const left = places.flatMap(place =>
    leftAt(place).map(({ why, times, sample }) => [why, count(times), placeName(place), sample]),
  );
  if (left.length > 0)
    parts.push(html`<h3>Left as it was</h3>`, table(['why', 'times', 'where', 'for example'], left, [1]));
  return section('Addresses rewritten', seen(steps, 'rewrite'), parts);
}

/** A change before and after, with what was found and put marked. */
function sampleOf({ before, after, found, put }: Sample): Html {
  const marked = (whole: string, { at, text }: Sample['found']) =>
    html`${whole.slice(0, at)}<mark>${text}</mark>${whole.slice(at + text.length)}`;
  return html`<div class="sample">− ${marked(before, found)}<br>+ ${marked(after, put)}</div>`;
}

/** Counts as bars, the largest first. */
function bars(counts: Readonly<Record<string, number>>): Html {
  const entries = Object.entries(counts).sort(([, a], [, b]) => b - a);
  const most = entries[0]?.[1] ?? 1;
  const lines = entries.map(
    ([what, n]) =>
      html`<div><span>${what}</span><i style="width: ${Math.max(0.5, (30 * n) / most).toFixed(1)}em"></i>${count(n)}</div>`,
  );
  return html`<div class="bars">${lines}</div>`;
}

function redirectsSection({ redirects, redirectsTest }: StepResults, steps: readonly ReportedStep[]): Html {
  if (!redirects || redirects.files.length === 0) return html``;
  const [first] = redirects.files;
  const parts = [
    html`<p>${redirects.from} → ${redirects.to}: ${counted(redirects.known, 'known old address', 'known old addresses')}${redirects.asked ? `, ${count(redirects.good)} of them lead to a page` : ''}.</p>`,
    table(
      ['leads on by', 'addresses', ...(redirects.asked ? ['to a page'] : [])],
      redirects.by.map(({ what, pages, good }) => [
        what,
        count(pages),
        ...(redirects.asked ? [count(good)] : []),
      ]),
    ),
    ...(redirects.without.length === 0
      ? []
      : [
          html`<p>${counted(redirects.without.length, 'page has', 'pages have')} no home at the new site:</p>`,
          table(
            ['old page', 'hits', 'most like'],
            redirects.without
              .slice(0, 50)
              .map(({ page, hits, likely: [best] }) => [
                page,
                count(hits),
                best ? `${best.page} (${best.score.toFixed(2)})` : '–',
              ]),
          ),
        ]),
    redirectsTest
      ? html`<p>Tested at the old host on ${moment(redirectsTest.when)}: ${count(redirectsTest.right)} of ${counted(redirectsTest.asked, 'address', 'addresses')} led in one hop to the right page.</p>`
      : html`<p>They were not tested at the old host.</p>`,
    html`<p>${first!.where}</p>${block(first!.rules.slice(0, 3_000).trimEnd().split('\n'))}`,
    table(
      ['for', 'written to'],
      redirects.files.map(({ server, file }) => [server, file]),
    ),
  ];
  return section('Redirects', seen(steps, 'redirects'), parts);
}

function cutoverSection({ cutover }: StepResults, steps: readonly ReportedStep[]): Html {
  if (!cutover) return html``;
  const { changes, timeline, zones, names, timeZone, stays } = cutover;
  const list = (lines: readonly Html[]) => html`<ul>${lines}</ul>`;
  const records = changes.flatMap(({ zone, phase, changes: sets }) => [
    `${phase}, ${zone}:`,
    ...sets.flatMap(({ before, after }) => [
      ...before.map(line => `- ${line}`),
      ...after.map(line => `+ ${line}`),
    ]),
  ]);
  const plan = timeline.map(
    ({ at, what, why }) =>
      html`<li><b>${at === undefined ? 'Now' : clockTime(at, timeZone)}:</b> ${what} <span class="dim">– ${why}</span></li>`,
  );
  return section('The cutover', seen(steps, 'cutover'), [
    list(
      zones.map(
        ({ zone, source, place, records: known, serial }) =>
          html`<li>${zone}: ${known} records by ${source} (${place}), serial ${serial ?? 'unknown'}</li>`,
      ),
    ),
    list(names.map(({ host, fate }) => html`<li><b>${host}</b> ${fate}</li>`)),
    html`${block(records)}<h3>The timeline</h3><ol>${plan}</ol>`,
    html`<p>Everything else in the zones stays as it is: ${Object.entries(stays)
      .map(([type, number]) => `${number} ${type}`)
      .join(', ')}.</p>`,
  ]);
}

function wayBackSection({ deliver }: StepResults): Html {
  if (!deliver) return html``;
  const { keepsakes, database } = deliver;
  const kept = [...keepsakes, ...(database?.keepsake === undefined ? [] : [database.keepsake])];
  return section(
    'Kept for the way back',
    '',
    kept.length === 0
      ? html`<p>Nothing was at the new end that had to be kept.</p>`
      : html`<ul>${kept.map(place => html`<li><code>${place}</code></li>`)}</ul><p>“able-porter undo” puts it back, “able-porter tidy” removes it.</p>`,
  );
}

/** When a step saw what a section shows. */
function seen(steps: readonly ReportedStep[], name: ReportedStep['step']): string {
  const at = steps.find(({ step }) => step === name)?.at;
  return at === undefined ? '' : `seen by ${name}, ${moment(at)}`;
}

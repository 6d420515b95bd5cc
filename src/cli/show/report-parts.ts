import type { Finding } from '../../core/findings/findings.js';
import { count } from '../../core/text/numbers.js';
import { Html, html } from './html.js';
import { reportStyle } from './report-style.js';

/** A page that needs nothing else: no network, no script. @param images whether pictures are in it */
export function wholePage(title: string, body: Html, { images = false, style = '' } = {}): string {
  const allowed = `default-src 'none'; style-src 'unsafe-inline'${images ? '; img-src data:' : ''}`;
  return html`<!doctype html>
<html lang="en">
<head>
<meta charset="utf-8">
<meta name="viewport" content="width=device-width, initial-scale=1">
<meta name="robots" content="noindex">
<meta http-equiv="Content-Security-Policy" content="${new Html(allowed)}">
<title>${title}</title>
<style>${new Html(reportStyle + style)}</style>
</head>
<body>
${body}
</body>
</html>
`.text;
}

/** What is in a cell of a table. */
export type Cell = string | Html;

/** A part of the page, with a heading that the list of contents leads to. */
export function section(title: string, when: string, content: Html | readonly Html[]): Html {
  return html`<section id="${anchorOf(title)}"><h2>${title} <span class="dim">${when}</span></h2>${content}</section>`;
}

/** The list of the parts that a page has. */
export function contents(page: Html): Html {
  const titles = [...page.text.matchAll(/<section id="[^"]*"><h2>([^<]*?) *</g)].map(
    ([, title]) => new Html(title!),
  );
  return html`<nav><ul>${titles.map(title => html`<li><a href="#${anchorOf(title.text)}">${title}</a></li>`)}</ul></nav>`;
}

function anchorOf(title: string): string {
  return title.toLowerCase().replace(/[^a-z0-9]+/g, '-');
}

/** What need not be read when all is well: one line, with the rest behind it. */
export function folded(line: string, content: Html | readonly Html[]): Html {
  return html`<details><summary>${line}</summary>${content}</details>`;
}

/** Findings, each as what was seen, where, and what to do. */
export function findingsList(findings: readonly (Finding & { readonly step?: string })[]): Html {
  const list = findings.map(
    ({ level, code, place, what, remedy, step }) => html`<li class="${level}"><b>${level}</b> ${what}
<dl><dt>where</dt><dd>${place}</dd><dt>do</dt><dd>${remedy}</dd></dl><code>${code}</code>${step !== undefined && html` <span class="dim">seen by ${step}</span>`}</li>`,
  );
  return html`<ul class="findings">${list}</ul>`;
}

/** Lines as they are in a file. */
export function block(lines: readonly string[]): Html {
  return html`<pre>${lines.map(line => html`${line}${new Html('\n')}`)}</pre>`;
}

/** A table; columns in which there is nothing are left out. @param right columns of figures */
export function table(
  heads: readonly string[],
  rows: readonly (readonly Cell[])[],
  right: readonly number[] = [],
): Html {
  const isUsed = heads.map(
    (_, i) =>
      rows.length === 0 ||
      rows.some(cells => (cells[i] instanceof Html ? (cells[i] as Html).text : cells[i]) !== ''),
  );
  const used = <One>(cells: readonly One[]) =>
    cells.map((cell, i) => [cell, i] as const).filter(([, i]) => isUsed[i]);
  const kind = (i: number) => (right.includes(i) ? 'n' : '');
  const drawn = rows
    .slice(0, mostRows)
    .map(
      cells => html`<tr>${used(cells).map(([cell, i]) => html`<td class="${kind(i)}">${cell}</td>`)}</tr>`,
    );
  const more = rows.length > mostRows && html`<p class="dim">and ${count(rows.length - mostRows)} more</p>`;
  return html`<div class="wide"><table><thead><tr>${used(heads).map(([head, i]) => html`<th class="${kind(i)}">${head}</th>`)}</tr></thead><tbody>${drawn}</tbody></table></div>${more}`;
}

/** Rows of a table beyond which the rest is only counted. */
const mostRows = 400;

export const good = (text: string) => html`<span class="good">${text}</span>`;
export const bad = (text: string) => html`<span class="bad">${text}</span>`;

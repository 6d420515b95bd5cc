import { readFile } from 'node:fs/promises';
import type { Finding } from '../../core/findings/findings.js';
import { counted } from '../../core/text/numbers.js';
import { type LookedAt, leastShare } from '../../steps/check/look/look.js';
import { type Html, html } from './html.js';
import { findingsList, section, wholePage } from './report-parts.js';

const style = `
.pair { display: grid; grid-template-columns: repeat(3, 1fr); gap: .8rem; margin: .4rem 0 1.6rem; }
.pair figure { margin: 0; } .pair img { width: 100%; border: 1px solid var(--line); display: block; }
.pair .frame { max-height: 30rem; overflow: auto; }
.phone { max-width: 44rem; } figcaption { color: var(--soft); font-size: .85rem; padding: .2rem 0; }
nav ol { columns: 2; }
`;

/** One page that needs nothing else: the pictures of both sites beside each other, worst first. */
export async function lookPage(
  {
    name,
    from,
    to,
    made,
  }: { readonly name: string; readonly from: string; readonly to: string; readonly made: string },
  looks: readonly LookedAt[],
  findings: readonly Finding[],
): Promise<string> {
  const differing = looks.filter(({ share }) => share > leastShare).length;
  // What looks different is shown below.
  const others = findings.filter(({ code }) => code !== 'look-differs');
  const headline =
    differing === 0
      ? `All ${counted(looks.length, 'pair')} of pictures look the same.`
      : `${differing} of ${counted(looks.length, 'pair')} of pictures look different.`;
  const pairs = await Promise.all(looks.map(pair));
  return wholePage(
    `${name}: old and new in a browser`,
    html`<header>
<h1>${name}: old and new in a browser</h1>
<p class="way"><span>${from}</span> → <span>${to}</span></p>
<p class="verdict ${differing === 0 ? 'good' : 'bad'}">${headline}</p>
</header>
<main>
${others.length > 0 && section('What the browser reported', '', findingsList(others))}
<nav><h2>Pages, worst first</h2><ol>${looks.map((one, i) => html`<li><a href="#pair-${i + 1}">${one.path}</a>, ${one.size}: ${shareText(one.share)}</li>`)}</ol></nav>
${pairs.map((figures, i) => html`<section id="pair-${i + 1}"><h2>${looks[i]!.path} <span class="dim">${looks[i]!.size}, ${shareText(looks[i]!.share)}</span></h2>${figures}</section>`)}
</main>
<footer>Taken ${made}. What changes on its own between two looks at the old page is not marked; other hosts were not asked.</footer>`,
    { images: true, style },
  );
}

async function pair({ path, size, old, new: next, marked }: LookedAt): Promise<Html> {
  const figure = async (caption: string, file: string) => {
    const data = (await readFile(file)).toString('base64');
    return html`<figure><figcaption>${caption}</figcaption><div class="${marked === undefined ? 'frame' : ''}"><img alt="${`${path}, ${caption}`}" src="data:image/png;base64,${data}"></div></figure>`;
  };
  const figures = [await figure('old', old), await figure('new', next)];
  if (marked !== undefined) figures.push(await figure('what differs', marked));
  return html`<div class="pair ${size}">${figures}</div>`;
}

function shareText(share: number): string {
  return share === 0 ? 'the same' : `${(share * 100).toFixed(share < 0.001 ? 2 : 1)} % differs`;
}

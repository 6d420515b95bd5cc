import { headerOf, isHtml } from '../read/answer.js';
import { programMessagesIn } from '../read/program-messages.js';
import type { Difference, PageCode } from './difference.js';
import type { Look, PagePair } from './page-pair.js';
import { quoted } from './wording.js';

/** What is wrong with the page by itself, apart from what is wrong with the old one too. */
export function findDefects(pair: PagePair, expectedHtml: string): void {
  const { old, next } = pair.looks;
  const had = new Set(defectsOf(pair, old, expectedHtml).map(({ code, like }) => `${code} ${like}`));
  for (const one of defectsOf(pair, next, next.answer.html))
    (had.has(`${one.code} ${one.like}`) ? pair.before : pair.differences).push(one);
}

function defectsOf(pair: PagePair, { answer, page }: Look, html: string): Difference[] {
  const found: Difference[] = [];
  const report = (code: PageCode, where: string, what: string, like = '') =>
    found.push({ code, path: pair.looks.path, where, what, like });
  const isText = isHtml(answer) || /^text\//.test(headerOf(answer, 'content-type') ?? '');
  if (answer.body === 'cut') report('page-cut', 'body', 'ends before all of it was sent');
  else if (answer.body === 'undecodable')
    report('page-cut', 'content-encoding', 'cannot be unpacked as its header says');
  else if (
    isHtml(answer) &&
    page.lines.length === 0 &&
    page.assets.length === 0 &&
    page.refresh === undefined
  )
    report('page-blank', `${answer.bytes} bytes`, 'is blank');
  else if (page.opened && !page.closed && answer.body === 'whole')
    report('page-cut', page.lines.at(-1)?.slice(-60) ?? 'end', 'ends without </html>');
  if (isText)
    for (const { text, kind } of programMessagesIn(html)) {
      const what = kind === 'message' ? `shows “${text}”` : `shows PHP source: “${text}”`;
      report(
        kind === 'message' ? 'page-message-shown' : 'page-source-shown',
        quoted(text),
        what,
        text.slice(0, 60),
      );
    }
  for (const { target, kind, where } of page.assets) {
    if (!/^http:\/\//i.test(target) || !answer.address.startsWith('https:')) continue;
    const what = `loads the ${kind} ${target} without encryption`;
    report('page-mixed-content', `${where}: ${target}`, what, pair.rewritten(target));
  }
  for (const { action } of page.forms)
    if (/^http:\/\//i.test(action ?? '') && answer.address.startsWith('https:'))
      report(
        'page-mixed-content',
        `form action: ${action}`,
        `sends a form without encryption, to ${action}`,
        pair.rewritten(action!),
      );
  return found;
}

import { mojibakeIn } from '../read/charset.js';
import { Noise, withoutTokens } from './noise.js';
import type { Look, PagePair } from './page-pair.js';
import { textChanges } from './text.js';
import { whole } from './urls.js';
import { cut, insteadOf, mostChanges, quoted } from './wording.js';

/** Compares what a person reads: title, text, language and forms. */
export function compareShown(pair: PagePair): void {
  const { old, again, next } = pair.looks;
  const linesOf = ({ page }: Look) =>
    page.lines.length === 0 ? [] : pair.rewritten(page.lines.join('\n')).split('\n');
  const expected = linesOf(old);
  const other = old.answer.html === again.answer.html ? expected : linesOf(again);
  compareTitle(pair);
  // The noise is learnt in any case.
  const noise = new Noise(expected, other, pair.sites.noise);
  if (!isGarbled(pair, expected)) compareText(pair, expected, noise);
  const [was, is] = [old.page.language, next.page.language];
  if (was !== is && was === again.page.language)
    pair.add('page-language-differs', 'html lang', `names the language “${is}” instead of “${was}”`);
  compareForms(pair);
}

function compareTitle(pair: PagePair): void {
  const { old, again, next } = pair.looks;
  const [expected, other] = [old, again].map(({ page }) => pair.rewritten(page.title));
  const { title } = next.page;
  const noise = new Noise([expected!], [other!], pair.sites.noise);
  if (noise.compare([expected!], [title]).missing.length === 0 || pair.isWanted(expected!, title)) return;
  pair.add('page-title-differs', 'title', `has the title “${title}” instead of “${expected}”`, title);
}

/** @returns whether letters of the new page are garbled that were not before */
function isGarbled(pair: PagePair, expected: readonly string[]): boolean {
  const { path, next } = pair.looks;
  const [was, is] = [expected, next.page.lines].map(lines => mojibakeIn(lines.join('\n')));
  if (!is) return false;
  const where = quoted(is.sample);
  const what = `has garbled letters: “${is.sample}”`;
  const isNew = is.count > (was?.count ?? 0);
  if (isNew) pair.add('page-garbled', where, what);
  else pair.before.push({ code: 'page-garbled', path, where, what, like: '' });
  return isNew;
}

function compareText(pair: PagePair, expected: readonly string[], noise: Noise): void {
  const changes = textChanges(expected, pair.looks.next.page.lines, noise);
  if (!changes) pair.add('page-text-differs', 'text', 'has little of its text in common with the old page');
  for (const { before, after } of (changes ?? []).slice(0, mostChanges)) {
    if (before.length === after.length && before.every((line, i) => pair.isWanted(line, after[i]!))) continue;
    const [was, is] = [before.join(' '), after.join(' ')];
    const what =
      is === ''
        ? `lacks “${cut(was)}”`
        : was === ''
          ? `says “${cut(is)}”, which the old page does not`
          : `says “${cut(is)}” instead of “${cut(was)}”`;
    pair.add('page-text-differs', quoted(is || was), what, `${was}\0${is}`);
  }
}

function compareForms(pair: PagePair): void {
  const { old, again, next } = pair.looks;
  const listOf = ({ page, answer }: Look) =>
    page.forms.map(({ action, method, fields }) => {
      const to = withoutTokens(pair.moved(whole(action ?? '', answer.address)));
      const names = fields.map(({ name }) => name).sort();
      return `${method} ${to} with ${names.join(', ') || 'no fields'}`;
    });
  const noise = new Noise(listOf(old), listOf(again), pair.sites.noise);
  const { missing, extra } = noise.compare(listOf(old), listOf(next));
  const [was, is] = [missing[0], extra[0]];
  if (was === undefined && is === undefined) return;
  const shown = (form: string | undefined) => form && `“${form}”`;
  pair.add(
    'page-form-differs',
    `form ${is ?? was}`,
    insteadOf('the form', shown(was), shown(is)),
    `${was}\0${is}`,
  );
}

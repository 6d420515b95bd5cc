import { finished } from 'node:stream/promises';
import { SAXParser } from 'parse5-sax-parser';
import { bytesOfText, textOf } from '../../bytes.js';
import { editsInValue } from '../../rewrite/carriers/value.js';
import { unnoted } from '../../rewrite/report/observer.js';
import type { Rules } from '../../rewrite/terms/rules.js';

/** An old address that is still in a text. */
export interface OldAddress {
  /** In characters of the text. */
  readonly at: number;
  /** It, with what follows it up to the end of the URL. */
  readonly text: string;
}

/**
 * The old addresses in a text, in any form; and the old hosts that are in it more often than in what it was expected to
 * be.
 * @param expected the old text as it should have become
 */
export function oldAddressesIn(
  text: string,
  expected: string,
  rules: Rules,
  oldHosts: readonly string[],
): OldAddress[] {
  const bytes = bytesOfText(text);
  const found = editsInValue(bytes, rules, unnoted).map(({ start }) =>
    urlAt(text, textOf(bytes.slice(0, start)).length),
  );
  for (const host of oldHosts) {
    const places = placesOf(text, host);
    if (places.length <= placesOf(expected, host).length) continue;
    for (const at of places)
      if (!found.some(one => at >= one.at && at < one.at + one.text.length)) found.push(urlAt(text, at));
  }
  return found.sort((a, b) => a.at - b.at);
}

function urlAt(text: string, at: number): OldAddress {
  const [whole] = /^[^\s"'<>)]{1,120}/.exec(text.slice(at, at + 200)) ?? [''];
  return { at, text: whole };
}

/** Where a host is named on its own: not as part of another name, and not in a mail address. */
function placesOf(text: string, host: string): number[] {
  const places: number[] = [];
  const lower = text.toLowerCase();
  for (let at = lower.indexOf(host); at >= 0; at = lower.indexOf(host, at + 1)) {
    const [before, after] = [lower[at - 1] ?? ' ', lower.slice(at + host.length, at + host.length + 2)];
    if (/[\w@.-]/.test(before) || /^(?:[\w-]|\.\w)/.test(after)) continue;
    places.push(at);
  }
  return places;
}

interface Place {
  readonly startOffset: number;
  readonly endOffset: number;
}
/** What the parser gives of a start tag, beyond what its types say. */
interface LocationWithAttributes extends Place {
  readonly attrs?: Readonly<Record<string, Place>>;
}

/** Where in HTML places are: the element and attribute, a script, a comment, or the text. One for each place, in order. */
export async function wherePlacesAre(html: string, places: readonly number[]): Promise<string[]> {
  if (places.length === 0) return [];
  const spans: { readonly from: number; readonly to: number; readonly where: string }[] = [];
  const parser = new SAXParser({ sourceCodeLocationInfo: true });
  let around = '';
  const isWanted = (from: number, to: number) => places.some(at => at >= from && at < to);
  parser.on('startTag', token => {
    const { tagName } = token;
    const sourceCodeLocation = token.sourceCodeLocation as LocationWithAttributes | null | undefined;
    around = tagName;
    if (!sourceCodeLocation || !isWanted(sourceCodeLocation.startOffset, sourceCodeLocation.endOffset))
      return;
    for (const [name, { startOffset, endOffset }] of Object.entries(sourceCodeLocation.attrs ?? {}))
      spans.push({ from: startOffset, to: endOffset, where: `${tagName} ${name}` });
  });
  const add = (where: string, place: Place | null | undefined) => {
    if (place && isWanted(place.startOffset, place.endOffset))
      spans.push({ from: place.startOffset, to: place.endOffset, where });
  };
  parser.on('comment', ({ sourceCodeLocation }) => add('comment', sourceCodeLocation));
  parser.on('text', ({ sourceCodeLocation }) => {
    add(around === 'script' || around === 'style' ? around : 'text', sourceCodeLocation);
  });
  parser.on('endTag', () => {
    around = '';
  });
  await finished(parser.end(html));
  return places.map(at => spans.find(({ from, to }) => at >= from && at < to)?.where ?? 'page');
}

import { showable } from '../../core/text/display.js';

/** A piece of HTML: what is put into it was escaped. */
export class Html {
  readonly text: string;

  constructor(text: string) {
    this.text = text;
  }
}

type Part = Html | string | number | undefined | false | readonly Part[];

const entities: Readonly<Record<string, string>> = {
  '&': '&amp;',
  '<': '&lt;',
  '>': '&gt;',
  '"': '&quot;',
  "'": '&#39;',
};

/** HTML from a template; whatever is in its places is escaped unless it is HTML itself. */
export function html(fixed: TemplateStringsArray, ...parts: readonly Part[]): Html {
  return new Html(fixed.map((text, i) => (i === 0 ? '' : rendered(parts[i - 1])) + text).join(''));
}

function rendered(part: Part): string {
  if (part === undefined || part === false) return '';
  if (part instanceof Html) return part.text;
  if (typeof part === 'string') return showable(part).replace(/[&<>"']/g, char => entities[char]!);
  return typeof part === 'number' ? String(part) : part.map(rendered).join('');
}

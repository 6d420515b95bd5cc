/** What a style sheet loads. */
export interface CssReference {
  /** As written, without quotes. */
  readonly target: string;
  readonly kind: 'style' | 'image' | 'font';
}

const most = 2_000;

/**
 * The addresses in a style sheet: `@import`, and `url()` anywhere else (CSS Syntax Module Level 3, 4.3.6). Comments and
 * fragments of the same document are left out, and so is what is written out in the sheet itself (`data:`).
 */
export function referencesOfCss(css: string): CssReference[] {
  const found: CssReference[] = [];
  const text = css.replace(/\/\*[\s\S]*?\*\//g, ' ');
  const pattern =
    /(@import\s+(?:url\(\s*)?|\burl\(\s*)(?:"((?:[^"\\\n]|\\.)*)"|'((?:[^'\\\n]|\\.)*)'|([^\s"')]*))/gi;
  for (const match of text.matchAll(pattern)) {
    const target = (match[2] ?? match[3] ?? match[4] ?? '').replace(/\\(.)/g, '$1').trim();
    if (target === '' || target.startsWith('#') || /^(?:data|blob|about|var\()/i.test(target)) continue;
    const isImport = match[1]!.toLowerCase().startsWith('@import');
    const kind = isImport
      ? 'style'
      : isFont(target, text.slice(Math.max(0, match.index - 600), match.index))
        ? 'font'
        : 'image';
    found.push({ target, kind });
    if (found.length === most) break;
  }
  return found;
}

function isFont(target: string, before: string): boolean {
  if (/\.(?:woff2?|ttf|otf|eot)(?:[?#]|$)/i.test(target)) return true;
  const block = before.slice(before.lastIndexOf('}') + 1);
  return /@font-face[^{}]*\{[^{}]*$/i.test(block);
}

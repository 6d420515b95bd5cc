/** A rule that many pages follow. */
export interface ProposedRule {
  readonly from: string;
  readonly to: string;
  /** How many of the pages it leads to their new places. */
  readonly pages: number;
  /** One of them. */
  readonly example: readonly [from: string, to: string];
}

/** So many pages make a rule. */
const fewest = 10;

/**
 * Rules by which pages moved: the last part of their path stayed, and what is around it changed in the same way.
 * @param moved old pages with their new places, below the addresses
 */
export function proposedRules(moved: readonly (readonly [from: string, to: string])[]): ProposedRule[] {
  const found = new Map<string, { rule: Omit<ProposedRule, 'pages'>; pages: number }>();
  for (const [from, to] of moved) {
    const rule = ruleFor(from, to);
    if (!rule) continue;
    const key = `${rule.from} ${rule.to}`;
    const known = found.get(key);
    if (known) known.pages++;
    else found.set(key, { rule: { ...rule, example: [from, to] }, pages: 1 });
  }
  return [...found.values()]
    .filter(({ pages }) => pages >= fewest)
    .map(({ rule, pages }) => ({ ...rule, pages }))
    .sort((a, b) => b.pages - a.pages)
    .slice(0, 5);
}

const kinds: readonly (readonly [like: RegExp, name: string, expression: string])[] = [
  [/^(?:19|20)\d{2}$/, 'year', '\\d{4}'],
  [/^\d{2}$/, 'month', '\\d{2}'],
  [/^\d{2}$/, 'day', '\\d{2}'],
  [/^\d+$/, 'id', '\\d+'],
];

function ruleFor(from: string, to: string): { readonly from: string; readonly to: string } | undefined {
  if (/[?#]/.test(from + to)) return undefined;
  const [old, next] = [from, to].map(path => path.split('/').filter(Boolean));
  const slug = nameWithout(old!.at(-1));
  if (slug.name === '' || /^\d+$/.test(slug.name)) return undefined;
  const used = new Set<string>();
  const values = new Map<string, string>();
  const pattern = old!.slice(0, -1).map(segment => {
    const kind = kinds.find(([like, name]) => like.test(segment) && !used.has(name));
    if (!kind) return escaped(segment);
    used.add(kind[1]);
    values.set(segment, `:${kind[1]}`);
    return `:${kind[1]}(${kind[2]})`;
  });
  let keepsName = false;
  const target = next!.map(segment => {
    const { name, ending } = nameWithout(segment);
    if (name === slug.name) {
      keepsName = true;
      return `:slug${escaped(ending)}`;
    }
    return values.get(segment) ?? escaped(segment);
  });
  if (!keepsName) return undefined;
  const written = {
    from: `/${[...pattern, `:slug${escaped(slug.ending)}`].join('/')}${from.endsWith('/') ? '/' : ''}`,
    to: `/${target.join('/')}${to.endsWith('/') ? '/' : ''}`,
  };
  // The same path needs no rule.
  return written.from.replace(/\([^)]*\)/g, '') === written.to ? undefined : written;
}

function nameWithout(segment = ''): { readonly name: string; readonly ending: string } {
  const [, name, ending] = /^(.+?)(\.(?:html?|php|aspx?))?$/.exec(segment) ?? [];
  return { name: name ?? '', ending: ending ?? '' };
}

/** A text as a path pattern has it. */
function escaped(text: string): string {
  return text.replace(/[:*+?(){}\\]/g, '\\$&');
}

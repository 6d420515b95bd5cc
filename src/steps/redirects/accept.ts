import type { RedirectPlan } from './plan.js';

/** Which of the likeliest pages become targets. */
export interface Acceptance {
  /** From this score on. */
  readonly score: number;
  /** Pages that a person chose one by one: old page, and new one, or `410` for what is gone. */
  readonly chosen?: ReadonlyMap<string, string>;
}

/** The same plan with the likeliest pages as targets. What was accepted is as good as written by a person. */
export function accepted(plan: RedirectPlan, { score, chosen }: Acceptance): RedirectPlan {
  const targets = new Map<string, { to: string; status: string; why: string }>();
  for (const { page, likely } of plan.without) {
    const [best] = likely;
    const choice = chosen?.get(page);
    if (choice === '410') targets.set(page, { to: '', status: '410', why: 'gone for good' });
    else if (choice !== undefined) targets.set(page, { to: choice, status: '', why: 'chosen' });
    else if (best && best.score >= score)
      targets.set(page, {
        to: best.page,
        status: '',
        why: `accepted (${best.score.toFixed(2)}: ${best.by.join(', ')})`,
      });
  }
  const { persons, own } = plan.lines;
  const taken = own.flatMap(line => {
    const target = targets.get(line.from);
    return target ? [{ ...line, ...target }] : [];
  });
  return {
    ...plan,
    lines: { persons: [...persons, ...taken], own: own.filter(({ from }) => !targets.has(from)) },
    without: plan.without.filter(({ page }) => !targets.has(page)),
    pages: plan.pages.map(page => {
      const target = targets.get(page.page);
      if (!target) return page;
      const { target: _, ...rest } = page;
      return target.status === '410'
        ? { ...rest, by: 'gone' }
        : { ...page, by: 'single', target: target.to, status: 200 };
    }),
  };
}

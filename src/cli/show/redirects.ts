import { listed } from '../../core/text/listed.js';
import { count, counted } from '../../core/text/numbers.js';
import type { StepOutcome } from '../../steps/move/step.js';
import type { Placed } from '../../steps/redirects/placing.js';
import type { RedirectTest } from '../../steps/redirects/test.js';
import type { RedirectTrial } from '../../steps/redirects/try.js';
import type { RedirectsResult } from '../../steps/redirects.js';
import { fit, table } from '../terminal/table.js';
import { type Colors, headline, withFindings } from './outcome.js';

const mostShown = 12;

/** The plan of the redirects. */
export function showRedirects(outcome: StepOutcome<RedirectsResult>, colors: Colors): string {
  const { from, to, files, list, looked, known, by, asked, good, without, goneBefore } = outcome.result;
  const [first, ...others] = files;
  if (!first) return withFindings(outcome, [headline(outcome, `${from} stays where it is`, colors)], colors);
  const share = asked ? `, ${count(good)} of them lead to a page` : '';
  const lines = [
    headline(outcome, `${counted(known, 'known address', 'known addresses')} of ${from}${share}`, colors),
    '',
  ];
  lines.push(
    ...looked.map(
      ({ what, seen, text }) =>
        `  ${seen ? colors.green('✓') : colors.dim('–')} ${what.padEnd(14)} ${colors.dim(text)}`,
    ),
  );
  if (goneBefore > 0)
    lines.push(
      colors.dim(
        `    ${counted(goneBefore, 'address', 'addresses')} left out that the old site itself does not have any more`,
      ),
    );
  lines.push(
    '',
    table(
      ['leads on by', 'addresses', ...(asked ? ['to a page'] : [])],
      by.map(({ what, pages, good: well }) => [fit(what, 60), count(pages), ...(asked ? [count(well)] : [])]),
      [1, 2],
    ),
  );
  if (without.length > 0) lines.push('', ...homeless(without, colors));
  lines.push(
    `  ${colors.bold('To edit')}: ${list}`,
    '',
    `  ${first.where}`,
    `  ${colors.dim(`written to ${first.file}`)}`,
  );
  if (others.length > 0)
    lines.push(
      colors.dim(`  also written for ${others.map(({ server }) => server).join(', ')}, in folders beside it`),
    );
  lines.push(
    '',
    colors.dim(
      `  Next: redirects try (nothing is asked), put, test; take-back removes them again. They lead to ${to}.`,
    ),
  );
  return withFindings(outcome, lines, colors);
}

function homeless(without: RedirectsResult['without'], colors: Colors): string[] {
  const rows = without
    .slice(0, mostShown)
    .map(({ page, hits, likely: [best] }) => [
      fit(page, 38),
      count(hits),
      best ? fit(best.page, 38) : colors.dim('–'),
      best ? `${best.score.toFixed(2)} ${colors.dim(best.by.join(', '))}` : '',
    ]);
  const more = without.length - rows.length;
  return [
    `  ${counted(without.length, 'page has', 'pages have')} no home at the new site yet:`,
    table(['old page', 'hits', 'most like', ''], rows, [1]),
    ...(more > 0 ? [colors.dim(`  and ${count(more)} more in redirects.csv`), ''] : []),
  ];
}

/** What was put in place, or taken back. */
export function showPlaced(
  done: 'put' | 'take-back',
): (outcome: StepOutcome<Placed>, colors: Colors) => string {
  return (outcome, colors) => {
    const { file, kept, tables, where, changed, end } = outcome.result;
    if (file === undefined)
      return withFindings(outcome, [colors.bold('This one is for you:'), `  ${where}`], colors);
    if (outcome.state === 'stopped') return withFindings(outcome, [headline(outcome, '', colors)], colors);
    if (!changed)
      return withFindings(
        outcome,
        [headline(outcome, `no redirects of this move are in ${file}`, colors)],
        colors,
      );
    const text =
      done === 'put'
        ? `the redirects are in ${file} of the ${end} site`
        : `the redirects are out of ${file} again`;
    const lines = [headline(outcome, text, colors)];
    if (tables > 0) lines.push(`  with ${counted(tables, 'table')} in a folder beside it`);
    if (done === 'put') {
      lines.push(`  what was there is kept: ${kept === undefined ? 'there was no such file' : kept}`);
      lines.push(colors.dim('  Next: redirects test asks every known address; take-back removes them again'));
    }
    return withFindings(outcome, lines, colors);
  };
}

/** What a test found. */
export function showTest(outcome: StepOutcome<RedirectTest>, colors: Colors): string {
  const { at, asked, right, wrong, targets, targetsNotAsked } = outcome.result;
  const sum = `${count(right)} of ${counted(asked, 'address', 'addresses')} lead in one hop to the right page`;
  const lines = [
    outcome.state === 'stopped' ? `${headline(outcome, '', colors)} ${sum}` : headline(outcome, sum, colors),
    colors.dim(
      `  asked at ${at}; ${counted(targets - targetsNotAsked, 'target')} asked at the new site${targetsNotAsked > 0 ? `, ${count(targetsNotAsked)} not` : ''}`,
    ),
  ];
  if (wrong.length > 0) {
    const rows = wrong
      .slice(0, mostShown)
      .map(({ url, wanted, got, fault }) => [fit(url, 40), fault, fit(wanted, 24), fit(got, 18)]);
    lines.push('', table(['address', 'fault', 'wanted', 'got'], rows));
    if (wrong.length > rows.length)
      lines.push(colors.dim(`  and ${count(wrong.length - rows.length)} more; --json lists all`));
  }
  return withFindings(outcome, lines, colors);
}

/** Where addresses lead as the redirects are written. */
export function showTrial(outcome: StepOutcome<RedirectTrial['tried']>, colors: Colors): string {
  const tried = outcome.result;
  const led = tried.filter(({ hops }) => hops.length > 0);
  const [one, more, loops] = [
    led.filter(({ hops, isLoop }) => hops.length === 1 && !isLoop),
    led.filter(({ hops, isLoop }) => hops.length > 1 && !isLoop),
    led.filter(({ isLoop }) => isLoop),
  ];
  const parts = [
    `${count(one.length)} in one hop`,
    ...(more.length > 0 ? [`${count(more.length)} in several`] : []),
    ...(loops.length > 0 ? [`${count(loops.length)} in a circle`] : []),
    ...(tried.length > led.length ? [`${count(tried.length - led.length)} stay where they are`] : []),
  ];
  const shown = tried.length <= mostShown ? tried : [...loops, ...more, ...one].slice(0, mostShown);
  const rows = shown.map(({ url, hops }) => [
    fit(url, 44),
    hops.length === 0
      ? colors.dim('stays')
      : hops
          .map(({ status, target }) => `${status}${target === undefined ? '' : ` ${fit(target, 48)}`}`)
          .join(' → '),
    colors.dim(
      listed(
        hops.map(({ by }) => fit(by, 30)),
        2,
      ),
    ),
  ]);
  const lines = [
    headline(outcome, `${counted(tried.length, 'address', 'addresses')}: ${parts.join(', ')}`, colors),
    '',
    table(['address', 'leads to', 'by'], rows),
  ];
  if (tried.length > rows.length)
    lines.push(colors.dim(`  and ${count(tried.length - rows.length)} more; --json lists all`));
  return withFindings(outcome, lines, colors);
}

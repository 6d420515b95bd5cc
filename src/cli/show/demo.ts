import { count, counted, seconds } from '../../core/text/numbers.js';
import { type DemoOutcome, demoPassed } from '../../steps/demo/demo.js';
import { resolverSpeed } from '../../steps/demo/hosts.js';
import type { StepOutcome } from '../../steps/move/step.js';
import { table } from '../terminal/table.js';
import { showFindings, type Terminal } from '../terminal/terminal.js';
import { compared, pagesTable, showLeftOver } from './check.js';
import { stepTable } from './go.js';
import { storedText } from './steps.js';

/** The story of the demo, ending with the table that a person wants. */
export function showDemo(outcome: DemoOutcome, served: boolean, colors: Terminal['colors']): string {
  const { outcomes, faults, firstFindings, redirects, switched } = outcome;
  const { check, rewrite } = outcomes;
  const totals = rewrite.result.dump!.totals;
  const forms = Object.entries(totals.forms).sort(([, a], [, b]) => b - a);
  const found = check.result;
  const samples = ['/', '/welcome/', '/curlew/', '/tides-march/', '/wp-login.php'];
  const title = (text: string) => `\n${colors.bold(text)}\n`;
  return [
    colors.bold('The Saltmarsh Rowing Club moves'),
    '  https://club.saltmarsh.example/site  →  https://saltmarshrowing.example',
    title('1. The survey found, before anything was touched'),
    showFindings(firstFindings, colors),
    title('2. Broken on purpose, and found by check'),
    table(
      ['what was wrong', 'the home page', 'what check says'],
      faults.map(({ what, page, found: finding }) => [
        what,
        String(page?.newStatus ?? ''),
        colors.red(finding ? `${finding.level}  ${finding.code}` : 'nothing'),
      ]),
    ),
    title('3. Repaired: pages side by side'),
    pagesTable(
      found.pages.filter(({ path }) => samples.includes(path)),
      colors,
    ),
    colors.dim(
      `  ${counted(found.pages.length, 'page')} compared, ${count(found.pages.filter(({ verdict }) => verdict === 'same').length)} the same`,
    ),
    title(
      `4. ${counted(totals.occurrences, 'address', 'addresses')} rewritten, by the form they were written in`,
    ),
    table(
      ['form', 'times'],
      forms.map(([form, n]) => [form, count(n)]),
      [1],
    ),
    title('5. Old beside new'),
    compared(found, colors),
    showLeftOver(found, colors),
    title('6. Redirects, put in place at the old host, tested, and taken back'),
    `  ${counted(outcomes.redirects.result.known, 'known old address', 'known old addresses')}: ${outcomes.redirects.result.by.map(({ what, pages }) => `${what} ${count(pages)}`).join(', ')}`,
    `  ${count(redirects.test.result.right)} of ${counted(redirects.test.result.asked, 'address', 'addresses')} led in one hop to the right page; then ${redirects.takenBack.result.file ?? 'the file'} was as before`,
    title('7. The certificate and the switch at its DNS server, watched until the resolver had followed'),
    `  a certificate for ${switched.prepare.result.certificate?.hosts.join(', ')}, proved by a record before anybody came`,
    ...switched.switch.result.zones.flatMap(({ changes }) =>
      changes.flatMap(({ before, after }) => [
        ...before.map(line => colors.red(`  - ${line}`)),
        ...after.map(line => colors.green(`  + ${line}`)),
      ]),
    ),
    `  at first ${switched.first.agreed} of ${counted(switched.first.of, 'answer')} led to the new host, ${seconds(switched.watch.seconds)} later ${switched.watch.result.agreed} of ${switched.watch.result.of} (the clock of the demo’s resolver is ${resolverSpeed} times as fast)`,
    ...(outcome.store
      ? [title('8. The crate, stored offsite and read again'), storeText(outcome.store)]
      : []),
    title(`${outcome.store ? 9 : 8}. How long it took`),
    stepTable(Object.values(outcomes) as StepOutcome<unknown>[], colors),
    title('What to do next'),
    served
      ? `  In another terminal: cd ${outcome.folder}/move, then "able-porter status", "cutover watch", "cutover back", "undo"`
      : `  Try the commands on its hosts: able-porter demo --keep ${outcome.kept ? outcome.folder : 'saltmarsh'} --serve`,
    '  Move a site of your own: able-porter start',
    '',
    demoPassed(outcome)
      ? colors.green('Every check passed.')
      : colors.red('Something was not as it should be; see above.'),
  ].join('\n');
}

function storeText({ stored, crates, verified }: NonNullable<DemoOutcome['store']>): string {
  return [
    `  ${storedText(stored)}`,
    `  ${counted(crates, 'crate')} there; ${counted(verified.parts, 'part')} read again, and as stored`,
  ].join('\n');
}

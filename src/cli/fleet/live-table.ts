import type { createLogUpdate } from 'log-update';
import { byTrouble, countSites, type SiteProgress } from '../../core/fleet/outcome.js';
import { seconds } from '../../core/text/numbers.js';
import type { Fleet } from '../../steps/fleet/fleet.js';
import type { Observe } from '../../steps/fleet/runner.js';
import type { Common } from '../terminal/common-options.js';
import { cut, table } from '../terminal/table.js';
import type { Terminal } from '../terminal/terminal.js';
import { findingsText, firstLine, stateText, summary } from './show.js';

/** How often the table is drawn anew, in milliseconds. */
const drawEvery = 200;
const barWidth = 12;

/** What is seen of a fleet while it is worked on: a table at a terminal, a line a site in a log. */
export class LiveTable {
  private readonly argv: Common;
  private readonly terminal: Terminal;
  private readonly update: ReturnType<typeof createLogUpdate> | undefined;
  private readonly name: string;
  private readonly began = Date.now();
  private readonly sites = new Map<string, SiteProgress>();
  private drawing: NodeJS.Timeout | undefined;

  private constructor(argv: Common, fleet: Fleet, terminal: Terminal, update: LiveTable['update']) {
    this.argv = argv;
    this.name = fleet.name;
    this.terminal = terminal;
    this.update = update;
    if (update) this.drawing = setInterval(() => update(this.text()), drawEvery);
  }

  static async open(argv: Common, fleet: Fleet, terminal: Terminal): Promise<LiveTable> {
    const isLive = process.stderr.isTTY && !argv.quiet && !argv.jsonEvents;
    const update = isLive ? (await import('log-update')).createLogUpdate(process.stderr) : undefined;
    return new LiveTable(argv, fleet, terminal, update);
  }

  readonly observe: Observe = progress => {
    this.sites.set(progress.site, progress);
    if (this.argv.jsonEvents) writeEvent({ type: 'site', ...progress });
    else if (!this.update && progress.state === 'ended')
      this.terminal.message(lineOf(progress, this.terminal.colors));
  };

  /** Shows something above the table. */
  message(text: string): void {
    this.update?.clear();
    if (this.argv.jsonEvents) writeEvent({ type: 'message', text });
    else this.terminal.message(text);
  }

  /** Takes the table away; what follows is the result. */
  end(): void {
    clearInterval(this.drawing);
    this.update?.clear();
    this.update?.done();
  }

  private text(): string {
    const { colors } = this.terminal;
    const width = (process.stderr.columns ?? 100) - 1;
    const all = [...this.sites.values()].sort(byTrouble);
    // What is done, and what waits, is of less interest where there is no room for all.
    const rows = Math.max(3, (process.stderr.rows ?? 30) - 6);
    const shown = all.slice(0, rows);
    const others = countSites(all.slice(rows));
    const rest = [
      ...(others.running > 0 ? [`${others.running} more under way`] : []),
      ...(others.waiting > 0 ? [`${others.waiting} more waiting`] : []),
      ...(others.done > 0 ? [`${others.done} more done`] : []),
    ];
    const doing = Math.max(10, width - 84);
    return [
      `${colors.bold(this.name)}  ${summary(countSites(all), colors)}  ${colors.dim(`${seconds((Date.now() - this.began) / 1000)}${this.left(all)}`)}`,
      '',
      table(
        ['site', 'state', 'step', '', 'took', 'findings', ''],
        shown.map(one => this.row(one, doing)),
        [4],
      ).trimEnd(),
      ...(rest.length > 0 ? [colors.dim(`  ${rest.join(', ')}`)] : []),
    ].join('\n');
  }

  private row(one: SiteProgress, doing: number): string[] {
    const { colors } = this.terminal;
    const { site, step, part, outcome, since, worker } = one;
    const took = outcome?.seconds ?? (since === undefined ? undefined : (Date.now() - since) / 1000);
    const said = outcome?.why === undefined ? (one.doing ?? '') : firstLine(outcome.why);
    return [
      cut(site, 24),
      stateText(one, colors),
      outcome?.step ?? step ?? '',
      part === undefined ? ' '.repeat(barWidth) : bar(part),
      took === undefined ? '' : seconds(took),
      outcome ? findingsText(outcome, colors) : '',
      colors.dim(cut(worker === undefined ? said : `${worker}  ${said}`, doing)),
    ];
  }

  /** How long it takes yet, as far as the sites that are done tell. */
  private left(all: readonly SiteProgress[]): string {
    const { waiting, running } = countSites(all);
    const ended = all.filter(({ state }) => state === 'ended').length;
    if (ended < 3 || waiting + running === 0) return '';
    const rate = (Date.now() - this.began) / ended;
    return `, about ${seconds((rate * (waiting + running)) / 1000)} left`;
  }
}

function writeEvent(event: object): void {
  process.stdout.write(`${JSON.stringify(event)}\n`);
}

function bar(part: number): string {
  const full = Math.round(part * barWidth);
  return '█'.repeat(full) + '░'.repeat(barWidth - full);
}

/** A site in a line of a log. */
function lineOf(progress: SiteProgress, colors: Terminal['colors']): string {
  const { site, outcome } = progress;
  if (!outcome) return site;
  const { seconds: took, step, why } = outcome;
  const at = outcome.state === 'done' || step === undefined ? '' : ` at ${step}`;
  const said = why === undefined ? '' : `: ${firstLine(why)}`;
  const found = findingsText(outcome, colors);
  return `${site}  ${stateText(progress, colors)}${at}  ${seconds(took)}${found === '' ? '' : `  ${found}`}${cut(said, 200)}`;
}

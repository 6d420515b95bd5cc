import { setTimeout } from 'node:timers/promises';
import type { Finding } from '../../core/findings/findings.js';
import { check } from '../check.js';
import { deliver } from '../deliver.js';
import { ledgerOf } from '../move/ledger.js';
import { refuseClosed } from '../move/life.js';
import { outcomeOf, type StepOutcome, type StepRun } from '../move/step.js';
import { pack } from '../pack.js';
import { rewrite } from '../rewrite.js';
import { freeze, switchOver, thaw, watch } from './deeds.js';
import { plannedCutover } from './planned.js';
import type { WatchOptions } from './watch.js';

/** One thing that was done in the night, and how it ended. */
export interface NightPart {
  readonly what: 'freeze' | 'pack' | 'rewrite' | 'deliver' | 'check' | 'switch' | 'watch' | 'thaw';
  readonly state: 'done' | 'stopped' | 'done before';
  readonly seconds: number;
}

export interface NightResult {
  readonly parts: readonly NightPart[];
  /** For how many seconds nobody could write to the old site, as far as this run counted. */
  readonly frozenSeconds: number;
  readonly life: 'open' | 'live';
}

/** What is asked for and shown in the night. */
export interface NightOptions {
  /** For how many minutes the old site stays closed if nothing more is heard. */
  readonly minutes: number;
  readonly watch: WatchOptions;
  /** Asks before something that visitors notice. @throws DeclinedError where a person says no */
  readonly ask: (question: string) => Promise<void>;
  readonly began: (what: NightPart['what']) => void;
  readonly ended: (part: NightPart) => void;
}

/**
 * The whole cutover: freeze, the last pass, check, switch, watch, thaw. It goes only as far as each result allows: where
 * something stops before the switch, the old site is opened again. Run again, it resumes.
 */
export function night(run: StepRun, options: NightOptions): Promise<StepOutcome<NightResult>> {
  return outcomeOf('cutover', async () => {
    await refuseClosed(run.move, 'The cutover');
    await plannedCutover(run, 'The cutover');
    const evening = new Night(run, options);
    await evening.go();
    const { life } = await ledgerOf(run.move);
    const { parts, frozenSeconds, findings } = evening;
    return { result: { parts, frozenSeconds, life: life === 'live' ? 'live' : 'open' }, findings };
  });
}

/** So long, in milliseconds, requests that are under way when the old site is closed are waited for. */
const underWay = 3000;

class Night {
  readonly parts: NightPart[] = [];
  readonly findings: Finding[] = [];
  private readonly run: StepRun;
  private readonly options: NightOptions;
  private frozenAt: number | undefined;
  private thawedAt: number | undefined;

  constructor(run: StepRun, options: NightOptions) {
    this.run = run;
    this.options = options;
  }

  get frozenSeconds(): number {
    if (this.frozenAt === undefined) return 0;
    return Math.round(((this.thawedAt ?? performance.now()) - this.frozenAt) / 1000);
  }

  async go(): Promise<void> {
    const { run, options } = this;
    const isLive = async () => (await ledgerOf(run.move)).life === 'live';
    if (!(await isLive())) {
      await options.ask('Close the old site for what writes, and carry the last changes over?');
      // What was written since the last pass is not known to the journal.
      const again = { ...run, again: true };
      const passes =
        (await this.part('freeze', () => this.freeze())) &&
        (await this.part('pack', () => pack(again))) &&
        (await this.part('rewrite', () => rewrite(run))) &&
        (await this.part('deliver', () => deliver(run))) &&
        (await this.part('check', () => check(again)));
      if (!passes) {
        await this.thaw();
        return;
      }
      try {
        await options.ask('Switch the DNS to the new host?');
      } catch (error) {
        await this.thaw();
        throw error;
      }
      // Until the switch the freeze must hold.
      await freeze(run, options.minutes);
      if (!(await this.part('switch', () => switchOver(run)))) {
        await this.thaw();
        return;
      }
      // By hand, it is a person who switches; the old site stays closed until then.
      if (!(await isLive())) return;
    } else
      for (const what of ['freeze', 'pack', 'rewrite', 'deliver', 'check', 'switch'] as const)
        this.note({ what, state: 'done before', seconds: 0 });
    if (await this.part('watch', () => watch(run, options.watch))) await this.thaw();
  }

  /** @returns whether the night may go on */
  private async part(what: NightPart['what'], work: () => Promise<StepOutcome<unknown>>): Promise<boolean> {
    this.run.signal.throwIfAborted();
    this.options.began(what);
    if (what === 'freeze') this.frozenAt = performance.now();
    const { state, seconds, findings } = await work();
    this.findings.push(...findings);
    this.note({ what, state: state === 'stopped' ? 'stopped' : 'done', seconds });
    return state !== 'stopped';
  }

  /** Closes the old site; requests that began before may still write for a moment. */
  private async freeze(): Promise<StepOutcome<unknown>> {
    const outcome = await freeze(this.run, this.options.minutes);
    if (outcome.state !== 'stopped') await setTimeout(underWay, undefined, { signal: this.run.signal });
    return outcome;
  }

  private async thaw(): Promise<void> {
    await this.part('thaw', () => thaw(this.run));
    this.thawedAt = performance.now();
  }

  private note(part: NightPart): void {
    this.parts.push(part);
    this.options.ended(part);
  }
}

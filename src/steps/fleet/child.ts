import { spawn } from 'node:child_process';
import { createInterface } from 'node:readline';
import { ExitCode } from '../../core/errors.js';
import { byWeight, type Finding } from '../../core/findings/findings.js';
import { interruptedWhy, type SiteOutcome } from '../../core/fleet/outcome.js';
import { fenceVariable, keepVariable, workerVariable } from '../../core/fleet/worker.js';
import { showable } from '../../core/text/display.js';
import type { StepEvent } from '../move/events.js';
import type { RunSite } from './runner.js';

/** No more than this of an error is kept, in characters. */
const longestError = 4000;
/** How often a process may report its progress, in milliseconds. */
const reportEvery = 200;

/** What a process says on its standard output. */
type Said = StepEvent | { readonly type: 'result'; readonly result: unknown };

/**
 * Runs the commands of sites, each in a process of its own.
 * @param program the file that is the program
 * @param environment of the processes; the moves' sheets take their variables from it
 */
export function childRunner(program: string, environment: Readonly<Record<string, string>>): RunSite {
  return async ({ name, sheet, command }, { observe, signal, fence, keep }) => {
    const began = Date.now();
    const child = spawn(process.execPath, [program, ...command, '--sheet', sheet, '--yes', '--json-events'], {
      stdio: ['pipe', 'pipe', 'pipe'],
      // Ctrl-C at a terminal is for the one who watches, who then ends the others.
      detached: true,
      env: {
        ...environment,
        [workerVariable]: '1',
        ...(fence === undefined ? {} : { [fenceVariable]: String(fence) }),
        ...(keep === undefined ? {} : { [keepVariable]: keep }),
      },
    });
    child.stdin.on('error', () => {});
    const end = () => child.kill('SIGTERM');
    signal.addEventListener('abort', end, { once: true });
    const seen = new Seen(name, began, observe);
    let said = '';
    child.stderr.setEncoding('utf8').on('data', (text: string) => {
      said = (said + text).slice(-longestError);
    });
    const lines = createInterface({ input: child.stdout });
    lines.on('line', line => seen.take(line));
    if (signal.aborted) end();
    const { code, by } = await new Promise<{ code: number | null; by: string | null }>((resolve, reject) => {
      child.once('error', reject);
      child.once('close', (status, ended) => resolve({ code: status, by: ended }));
    }).finally(() => signal.removeEventListener('abort', end));
    return seen.outcome({ code, by, said, isEnded: signal.aborted });
  };
}

/** What was seen of a process. */
class Seen {
  private readonly site: string;
  private readonly began: number;
  private readonly observe: (progress: Parameters<Parameters<RunSite>[1]['observe']>[0]) => void;
  private step: string | undefined;
  private last = 0;
  private readonly found: Finding[] = [];
  private result: unknown;

  constructor(site: string, began: number, observe: Seen['observe']) {
    this.site = site;
    this.began = began;
    this.observe = observe;
    this.report({});
  }

  take(line: string): void {
    let said: Said;
    try {
      said = JSON.parse(line) as Said;
    } catch {
      return;
    }
    if (said.type === 'result') this.result = said.result;
    else if (said.type === 'finding') this.found.push(said.finding);
    else if (said.type === 'step') {
      this.step = said.step;
      this.report({});
    } else if (said.type === 'progress' && Date.now() - this.last >= reportEvery) {
      const { done, of, what, more } = said;
      this.report({ part: of > 0 && !more ? Math.min(1, done / of) : undefined, doing: showable(what) });
    } else if (said.type === 'message') this.report({ doing: showable(said.text.split('\n')[0]!) });
  }

  private report(more: { readonly part?: number | undefined; readonly doing?: string }): void {
    this.last = Date.now();
    this.observe({ site: this.site, state: 'running', step: this.step, since: this.began, ...more });
  }

  outcome(ended: {
    readonly code: number | null;
    readonly by: string | null;
    readonly said: string;
    readonly isEnded: boolean;
  }): SiteOutcome {
    const { code, by, said, isEnded } = ended;
    const findings = byWeight(this.findings);
    const count = (level: Finding['level']) => findings.filter(one => one.level === level).length;
    const state =
      code === ExitCode.done
        ? 'done'
        : code === ExitCode.stopped
          ? 'stopped'
          : isEnded || code === ExitCode.interrupted
            ? 'interrupted'
            : 'failed';
    const why = {
      done: undefined,
      stopped: findings[0] && `${findings[0].code}: ${findings[0].what}\n→ ${findings[0].remedy}`,
      interrupted: interruptedWhy,
      failed: said.trim() || `its process was ended${by === null ? '' : ` by ${by}`}`,
    }[state];
    return {
      site: this.site,
      state,
      step: this.step,
      why,
      findings: { stop: count('stop'), warn: count('warn'), note: count('note') },
      seconds: (Date.now() - this.began) / 1000,
    };
  }

  /** Those of its result, in which are also those of steps that were done before. */
  private get findings(): readonly Finding[] {
    const { outcomes, findings } = (this.result ?? {}) as {
      outcomes?: readonly { readonly findings: readonly Finding[] }[];
      findings?: readonly Finding[];
    };
    return outcomes?.flatMap(one => one.findings) ?? findings ?? this.found;
  }
}

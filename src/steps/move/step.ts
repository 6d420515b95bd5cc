import { mkdir, readFile } from 'node:fs/promises';
import { PorterError } from '../../core/errors.js';
import { byWeight, type Finding, saysStop } from '../../core/findings.js';
import { digestOf, type JournalRecord, type StepName, stateOf } from '../../core/journal.js';
import type { MoveFolder } from '../../ends/move-folder/move-folder.js';
import type { EventSink } from './events.js';
import type { Move } from './open.js';
import type { Pace } from './rate-limit.js';

/** What every step is given: the move, where to tell what happens, and what says that it shall end. */
export interface StepRun {
  readonly move: Move;
  readonly events: EventSink;
  readonly signal: AbortSignal;
  readonly pace: Pace;
  /** Do the step even where the journal says that it is done. */
  readonly again?: boolean;
}

/** What a step came to. */
export interface StepOutcome<Result> {
  readonly step: StepName;
  readonly state: 'done' | 'already done' | 'stopped';
  readonly findings: readonly Finding[];
  readonly result: Result;
  readonly seconds: number;
}

/** What a step's work gives; `brief` goes to the journal, `result` to its file in `results/`. */
interface Worked<Result> {
  readonly result: Result;
  readonly findings: readonly Finding[];
  readonly brief: Readonly<Record<string, unknown>>;
  /** The inputs, where only the work has told them. */
  readonly inputs?: unknown;
}

/**
 * Does a step once for the same inputs: where the journal says that it is done on these, its result is read back.
 * Otherwise the work is done and noted: when it began, and how it ended. Findings are told, the gravest first.
 * @param inputs everything that the result depends on; a digest of it is kept
 */
export async function doStep<Result>(
  run: StepRun,
  step: StepName,
  inputs: unknown,
  work: () => Promise<Worked<Result>>,
): Promise<StepOutcome<Result>> {
  const { folder } = run.move;
  const digest = digestOf(inputs);
  const last = stateOf(await folder.readJournal(), step);
  if (!run.again && last.state === 'done' && last.record?.inputs === digest) {
    const kept = await readResult<Result>(folder, step);
    if (kept) {
      run.events({ type: 'step', step, state: 'already done' });
      return { step, state: 'already done', ...kept, seconds: last.record.seconds ?? 0 };
    }
  }
  const began = performance.now();
  const note = (record: Pick<JournalRecord, 'event'> & Partial<JournalRecord>) =>
    folder.note({ at: new Date().toISOString(), step, ...record });
  run.events({ type: 'step', step, state: 'began' });
  await note({ event: 'began', inputs: digest });
  try {
    const { result, findings: seen, brief, inputs: told } = await work();
    const findings = byWeight(seen);
    for (const finding of findings) run.events({ type: 'finding', finding });
    const seconds = Math.round(performance.now() - began) / 1000;
    const state = saysStop(findings) ? 'stopped' : 'done';
    await mkdir(folder.at('results'), { recursive: true });
    await folder.write(`results/${step}.json`, `${JSON.stringify({ result, findings }, undefined, 2)}\n`);
    const worked = told === undefined ? digest : digestOf(told);
    await note({ event: state, inputs: worked, seconds, result: brief });
    run.events({ type: 'step', step, state });
    return { step, state, findings, result, seconds };
  } catch (error) {
    const told =
      error instanceof PorterError ? error.message.split('\n')[0] : String((error as Error).message);
    await note({ event: 'failed', inputs: digest, error: told }).catch(() => {
      // The journal lies on the same disk that may be full; the error itself says more.
    });
    throw error;
  }
}

/** Notes one thing that was done within a step and that `undo` can take back. */
export async function noteDone(
  run: StepRun,
  step: StepName,
  did: Readonly<Record<string, string>>,
): Promise<void> {
  await run.move.folder.note({ at: new Date().toISOString(), step, event: 'did', did });
}

/** The result that a step left when it ended last, or undefined where there is none. */
export async function readResult<Result>(
  folder: MoveFolder,
  step: StepName,
): Promise<{ result: Result; findings: Finding[] } | undefined> {
  try {
    return JSON.parse(await readFile(folder.at('results', `${step}.json`), 'utf8'));
  } catch {
    return undefined;
  }
}

import { DamageError, PorterError } from '../../core/errors.js';
import type { FileEntry } from '../../core/files/entries.js';
import { byWeight, type Finding, saysStop } from '../../core/findings/findings.js';
import { type Deed, digestOf, type JournalRecord, type StepName, stateOf } from '../../core/journal.js';
import type { Family } from '../../core/site/families/family.js';
import type { MoveFolder } from '../../ends/move-folder/move-folder.js';
import type { EventSink } from './events.js';
import type { Move } from './open.js';
import type { RateLimit } from './rate-limit.js';

/** Carries files to the new end before a delivery does. */
export interface CarriesAhead {
  /** How many files were carried, and how. */
  readonly files: number;
  readonly way: 'as one stream' | 'file by file' | 'from host to host';
  /** Gets each file as soon as the crate has it. @param family that of the site, whose own files the delivery writes */
  took(entry: FileEntry, family: Family | undefined): void;
}

/** What every step is given: the move, where to report what happens, and the signal that ends it. */
export interface StepRun {
  readonly move: Move;
  readonly events: EventSink;
  readonly signal: AbortSignal;
  readonly rate: RateLimit;
  /** Do the step even where the journal says that it is done. */
  readonly again?: boolean;
  /** Do nothing beside something else. */
  readonly oneByOne?: boolean;
  /** Carries files to the new end while others are still taken; undefined where a delivery carries all. */
  readonly forerun?: CarriesAhead | undefined;
}

/** The result of a step. */
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
  readonly brief: Readonly<Record<string, unknown>>;
  /** The inputs, where they are only known once the work is done. */
  readonly inputs?: unknown;
}

/** The findings of a step as they are made: each is reported at once, and kept for the step's result. */
export class FindingLog {
  private readonly seen: (Finding | FindingLog)[] = [];
  private readonly events: EventSink;

  constructor(events: EventSink) {
    this.events = events;
  }

  add(...findings: readonly Finding[]): void {
    for (const one of findings) {
      this.seen.push(one);
      this.events({ type: 'finding', finding: one });
    }
  }

  /** A log of its own for what is done beside other things: its findings stand here, whenever they are made. */
  part(): FindingLog {
    const part = new FindingLog(this.events);
    this.seen.push(part);
    return part;
  }

  /** Whether the move must not continue. */
  get stops(): boolean {
    return saysStop(this.inOrder);
  }

  /** All of them, the gravest first. */
  get all(): readonly Finding[] {
    return byWeight(this.inOrder);
  }

  private get inOrder(): readonly Finding[] {
    return this.seen.flatMap(one => (one instanceof FindingLog ? one.inOrder : one));
  }
}

/**
 * Does a step once for the same inputs: where the journal says that it is done on these, its result is read back.
 * Otherwise the work is done and noted: when it began, and how it ended.
 * @param inputs everything that the result depends on; a digest of it is kept
 */
export async function doStep<Result>(
  run: StepRun,
  step: StepName,
  inputs: unknown,
  work: (findings: FindingLog) => Promise<Worked<Result>>,
): Promise<StepOutcome<Result>> {
  const { folder } = run.move;
  const digest = digestOf(inputs);
  const last = stateOf(await folder.readJournal(), step);
  if (!run.again && last.state === 'done' && last.record?.inputs === digest) {
    // What is damaged is done anew.
    const kept = await readResult<Result>(folder, step).catch(() => undefined);
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
    const log = new FindingLog(run.events);
    const { result, brief, inputs: known } = await work(log);
    const findings = log.all;
    const seconds = Math.round(performance.now() - began) / 1000;
    const state = log.stops ? 'stopped' : 'done';
    await folder.write(`results/${step}.json`, resultText(result, findings));
    const done = known === undefined ? digest : digestOf(known);
    await note({ event: state, inputs: done, seconds, result: brief });
    run.events({ type: 'step', step, state });
    return { step, state, findings, result, seconds };
  } catch (error) {
    const [line] = error instanceof PorterError ? error.message.split('\n') : [(error as Error).message];
    await note({ event: 'failed', inputs: digest, error: String(line) }).catch(() => {
      // The journal is on the same disk that may be full; the error itself says more.
    });
    throw error;
  }
}

/** Something that is done beside the steps of a move, each time that it is asked for: with what came of it, and how long it took. */
export async function outcomeOf<Result>(
  step: StepName,
  work: () => Promise<Pick<StepOutcome<Result>, 'result' | 'findings'>>,
): Promise<StepOutcome<Result>> {
  const began = performance.now();
  const { result, findings } = await work();
  const seconds = Math.round(performance.now() - began) / 1000;
  return { step, state: saysStop(findings) ? 'stopped' : 'done', result, findings, seconds };
}

/** Notes one thing that is done within a step; it is on the disk before the thing is done. */
export async function noteDeed({ move }: Pick<StepRun, 'move'>, step: StepName, deed: Deed): Promise<void> {
  await move.folder.note({ at: new Date().toISOString(), step, event: 'did', deed });
}

/** A result with a checksum, by which one that was changed is recognised. */
function resultText(result: unknown, findings: readonly Finding[]): string {
  // What JSON does not hold is no part of it.
  const sum = digestOf(JSON.parse(JSON.stringify({ result, findings })));
  return `${JSON.stringify({ result, findings, sum }, undefined, 2)}\n`;
}

/**
 * The result that a step left when it ended last, or undefined where there is none.
 * @throws DamageError where it is not as it was written
 */
export async function readResult<Result>(
  folder: MoveFolder,
  step: StepName,
): Promise<{ result: Result; findings: Finding[] } | undefined> {
  const file = `results/${step}.json`;
  const text = await folder.read(file);
  if (text === undefined) return undefined;
  try {
    const { result, findings, sum } = JSON.parse(text) as {
      result: Result;
      findings: Finding[];
      sum: string;
    };
    if (sum === digestOf({ result, findings })) return { result, findings };
  } catch {
    // It is no JSON any more.
  }
  throw new DamageError({
    doing: `Reading ${folder.at(file)}`,
    cause: 'it was changed since it was written, or the disk has damaged it',
    remedy: `Put it back from a backup of the move folder, or run "able-porter ${step} --again"`,
  });
}

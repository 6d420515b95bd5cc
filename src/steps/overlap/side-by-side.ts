import type { EventSink, StreamName } from '../move/events.js';
import type { StepRun } from '../move/step.js';

/** The results of works, by the names of these; undefined for those that there are not. */
type ResultsOf<Works> = {
  readonly [Name in keyof Works]: Works[Name] extends ((run: StepRun) => Promise<infer Result>) | undefined
    ? Result | (undefined extends Works[Name] ? undefined : never)
    : never;
};
type Works = { readonly [Name in StreamName]?: ((run: StepRun) => Promise<unknown>) | undefined };

/** Parts of a step that are done at the same time. When one fails, the others are ended. */
export class SideBySide {
  private readonly run: StepRun;
  private readonly ending = new AbortController();
  private readonly signal: AbortSignal;
  private failure: { readonly error: unknown } | undefined;

  constructor(run: StepRun) {
    this.run = run;
    this.signal = AbortSignal.any([run.signal, this.ending.signal]);
  }

  /** The run of one of the parts: its progress has a line of its own, and it ends with the others. */
  runOf(stream: StreamName): StepRun {
    return { ...this.run, signal: this.signal, events: inStream(this.run.events, stream) };
  }

  /**
   * Does the parts, one after the other where the run is to be done so, and waits for all, so that none continues
   * unnoticed.
   * @throws the error of the one that failed first
   */
  async all<Parts extends Works>(works: Parts): Promise<ResultsOf<Parts>> {
    const names = (Object.keys(works) as StreamName[]).filter(name => works[name]);
    const results: Partial<Record<StreamName, unknown>> = {};
    const doOne = async (name: StreamName) => {
      try {
        results[name] = await works[name]!(this.runOf(name));
      } catch (error) {
        this.failure ??= { error };
        this.ending.abort(error);
      }
    };
    if (this.run.oneByOne) for (const name of names) await (this.failure ?? doOne(name));
    else await Promise.all(names.map(doOne));
    this.run.signal.throwIfAborted();
    if (this.failure) throw this.failure.error;
    return results as ResultsOf<Parts>;
  }
}

/** Does parts of a step at the same time (see `SideBySide`). @returns what each gave */
export function sideBySide<Parts extends Works>(run: StepRun, works: Parts): Promise<ResultsOf<Parts>> {
  return new SideBySide(run).all(works);
}

/** Says of progress which of the things it is about that are done at the same time. */
function inStream(events: EventSink, stream: StreamName): EventSink {
  return event => events(event.type === 'progress' ? { stream, ...event } : event);
}

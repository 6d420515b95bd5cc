import type { MultiBar, SingleBar } from 'cli-progress';
import { showable } from '../../core/text/display.js';
import { count } from '../../core/text/numbers.js';
import { sizeText as bytes } from '../../core/text/sizes.js';
import type { StepEvent, StreamName } from '../../steps/move/events.js';

export type Progress = Extract<StepEvent, { type: 'progress' }>;

/** What each thing that is done beside others is called. */
const streamLabels: Record<StreamName, string> = {
  files: 'files',
  database: 'database',
  pages: 'pages',
  old: 'old end',
  new: 'new end',
  ahead: 'to new end',
};

interface Line {
  readonly bar: SingleBar;
  /** When the line began, and at how many bytes or files. */
  readonly began: { readonly at: number; readonly done: number };
  /** Seconds until it is done; undefined while nobody can know. */
  left: number | undefined;
}

/** Live lines of progress: one for each thing that is done, and where there are several, one for the time left of the whole. */
export class ProgressLines {
  private readonly make: () => MultiBar;
  private multi: MultiBar | undefined;
  private readonly lines = new Map<StreamName | undefined, Line>();
  private whole: SingleBar | undefined;
  /** Bytes of all files that are taken; undefined where it is not known. */
  private taken: number | undefined;

  private constructor(make: () => MultiBar) {
    this.make = make;
  }

  static async open(): Promise<ProgressLines> {
    const { default: progress } = await import('cli-progress');
    const { BarFormat } = progress.Format;
    const make = () =>
      new progress.MultiBar({
        format: (options, { progress: part }, { label, whole, of, rate, what, more, left }) => {
          if (whole)
            return ` ${'all of it'.padEnd(10)} ${left === undefined ? 'time left is not known yet' : `${left} left`}`;
          const name = label === undefined ? '' : `${label.padEnd(10)} `;
          // Of an unknown whole there is no part.
          if (more) return ` ${name}more to come · ${of} · ${rate} · ${what}`;
          const percent = Math.floor(100 * part);
          return ` ${name}${BarFormat(part, options)} ${percent} % · ${of} · ${rate} · ${left} left · ${what}`;
        },
        barCompleteChar: '█',
        barIncompleteChar: '░',
        barsize: 24,
        stream: process.stderr,
        clearOnComplete: true,
        hideCursor: true,
        fps: 10,
        emptyOnZero: true,
      });
    return new ProgressLines(make);
  }

  show(seen: Progress): void {
    const event = this.withWhole(seen);
    const { stream, done } = event;
    // What one thing alone shows is over when several begin, and the other way round.
    if ([...this.lines.keys()].some(other => (other === undefined) !== (stream === undefined))) this.end();
    const line = this.lines.get(stream) ?? this.begin(stream, done);
    const total = event.of > 0 ? event.of : done + 1;
    const rate = ((done - line.began.done) * 1000) / Math.max(1, Date.now() - line.began.at);
    const isKnown = event.of > 0 && !event.more;
    line.left = isKnown ? (done >= total ? 0 : rate > 0 ? (total - done) / rate : undefined) : undefined;
    line.bar.setTotal(total);
    line.bar.update(done, {
      label: stream && streamLabels[stream],
      what: showable(event.what).slice(-40),
      of: event.files ? `${showFiles(event)} · ${showAmount(event)}` : showAmount(event),
      more: event.more ?? false,
      rate: event.unit === 'bytes' ? `${bytes(rate)}/s` : `${count(Math.round(rate))} ${event.unit}/s`,
      left: line.left === undefined ? '–' : timeText(line.left),
    });
    this.showWhole();
  }

  /** What is carried ahead is as much as is taken in the end, as far as that is known. */
  private withWhole(event: Progress): Progress {
    if (event.stream === 'files') this.taken = event.more || event.unit !== 'bytes' ? undefined : event.of;
    if (event.stream !== 'ahead' || !event.more || this.taken === undefined) return event;
    return { ...event, of: Math.max(this.taken, event.of), more: false };
  }

  /** Clears the lines, so that what follows is on lines of its own. */
  end(): void {
    this.multi?.stop();
    this.multi = undefined;
    this.lines.clear();
    this.whole = undefined;
  }

  private begin(stream: StreamName | undefined, done: number): Line {
    this.multi ??= this.make();
    if (this.whole) this.multi.remove(this.whole);
    this.whole = undefined;
    const empty = { label: undefined, of: '', rate: '', what: '', more: false, left: '–' };
    const bar = this.multi.create(1, 0, empty);
    const line: Line = { bar, began: { at: Date.now(), done }, left: undefined };
    this.lines.set(stream, line);
    if (this.lines.size > 1) this.whole = this.multi.create(1, 0, { whole: true });
    return line;
  }

  private showWhole(): void {
    const lefts = [...this.lines.values()].map(({ left }) => left);
    const longest = lefts.includes(undefined) ? undefined : Math.max(...(lefts as number[]));
    this.whole?.update(0, {
      whole: true,
      left: longest === undefined ? undefined : timeText(longest),
    });
  }
}

function timeText(seconds: number): string {
  const whole = Math.ceil(seconds);
  const [hours, minutes] = [Math.floor(whole / 3600), Math.floor(whole / 60) % 60];
  if (hours > 0) return `${hours} h ${minutes} min`;
  return minutes > 0 ? `${minutes} min ${whole % 60} s` : `${whole} s`;
}

function showFiles({ files, more }: Progress): string {
  return files ? `${count(files.done)} of ${count(files.of)}${more ? '+' : ''} files` : '';
}

function showAmount({ done, of, unit, more }: Progress): string {
  const show = (n: number) => (unit === 'bytes' ? bytes(n) : count(n));
  return of > 0 ? `${show(done)} of ${show(of)}${more ? '+' : ''}` : `${show(done)} ${unit}`;
}

/** Progress in a line of a log. */
export function progressText(event: Progress): string {
  const name = event.stream ? `${streamLabels[event.stream]}: ` : '';
  const files = event.files ? `${showFiles(event)}, ` : '';
  return `${name}${files}${showAmount(event)} ${showable(event.what)}`;
}

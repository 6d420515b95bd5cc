import type { SingleBar } from 'cli-progress';
import pc from 'picocolors';
import wrapAnsi from 'wrap-ansi';
import type { Finding } from '../../core/findings/findings.js';
import { showable } from '../../core/text/display.js';
import { count } from '../../core/text/numbers.js';
import { sizeText as bytes } from '../../core/text/sizes.js';
import type { EventSink, StepEvent } from '../../steps/move/events.js';
import type { Common } from './common-options.js';
import { cut, terminalColumns } from './table.js';

type Progress = Extract<StepEvent, { type: 'progress' }>;

/** How often a log gets a line of progress, in milliseconds. */
const logEvery = 10_000;

/** Results go to stdout, progress and messages to stderr; a person sees a live line, a log plain lines. */
export class Terminal {
  readonly colors: ReturnType<typeof pc.createColors>;
  private readonly argv: Common;
  private bar: SingleBar | undefined;
  private lastLine = Date.now();
  private lastMessage = { text: '', at: 0 };
  /** When the live line began, and at how many bytes or files. */
  private began = { at: 0, done: 0 };

  private constructor(argv: Common, bar: SingleBar | undefined) {
    this.argv = argv;
    this.bar = bar;
    this.colors = pc.createColors(argv.color && pc.isColorSupported);
  }

  static async open(argv: Common): Promise<Terminal> {
    const live = process.stderr.isTTY && !argv.quiet && !argv.jsonEvents;
    return new Terminal(argv, live ? await makeBar() : undefined);
  }

  /** Takes what a step shows while it runs. */
  readonly events: EventSink = event => {
    if (this.argv.jsonEvents) {
      process.stdout.write(`${JSON.stringify(event)}\n`);
      return;
    }
    if (event.type === 'progress') this.progress(event);
    else if (event.type === 'message') this.message(event.text.split('\n').map(showable).join('\n'));
    else if (event.type === 'finding') this.finding(event.finding);
    else if (event.type === 'step') {
      this.endBar();
      if (event.state !== 'began') this.message(this.colors.dim(`${event.step}: ${event.state}`));
    }
  };

  /** A message for the person, on stderr. What several connections report at the same moment is shown once. */
  message(text: string): void {
    const again = text === this.lastMessage.text && Date.now() - this.lastMessage.at < 1000;
    this.lastMessage = { text, at: Date.now() };
    if (again) return;
    this.endBar();
    if (!this.argv.quiet) process.stderr.write(`${text}\n`);
  }

  /** A finding in one line when it is seen; with what to do it comes with the result. */
  private finding({ level, code, what }: Finding): void {
    const width = (process.stderr.columns ?? terminalColumns()) - 1;
    const text = cut(`${marks[level]}  ${code}  ${what}`, width);
    this.message(painters(this.colors)[level](text));
  }

  /** The result: as JSON when asked, otherwise as the text that `draw` gives. */
  result(value: unknown, draw: () => string): void {
    this.endBar();
    if (this.argv.jsonEvents) process.stdout.write(`${JSON.stringify({ type: 'result', result: value })}\n`);
    else if (this.argv.json) process.stdout.write(`${JSON.stringify(value, undefined, 2)}\n`);
    else
      process.stdout.write(
        `${draw()
          .replace(/\n{3,}/g, '\n\n')
          .trimEnd()}\n`,
      );
  }

  /** Clears the progress line, so that what follows is on lines of its own. */
  endBar(): void {
    this.bar?.stop();
  }

  private progress(event: Progress): void {
    const total = event.of > 0 ? event.of : undefined;
    if (this.bar) {
      if (!this.bar.isActive) this.began = { at: Date.now(), done: event.done };
      const rate = ((event.done - this.began.done) * 1000) / Math.max(1, Date.now() - this.began.at);
      const payload = {
        what: showable(event.what).slice(-40),
        of: event.files ? `${showFiles(event)} · ${showAmount(event)}` : showAmount(event),
        more: event.more ?? false,
        rate: event.unit === 'bytes' ? `${bytes(rate)}/s` : `${count(Math.round(rate))} ${event.unit}/s`,
      };
      if (!this.bar.isActive) this.bar.start(total ?? event.done + 1, event.done, payload);
      this.bar.setTotal(total ?? event.done + 1);
      this.bar.update(event.done, payload);
      return;
    }
    if (this.argv.quiet || Date.now() - this.lastLine < logEvery) return;
    this.lastLine = Date.now();
    const files = event.files ? `${showFiles(event)}, ` : '';
    process.stderr.write(`${files}${showAmount(event)} ${showable(event.what)}\n`);
  }
}

function showFiles({ files, more }: Progress): string {
  return files ? `${count(files.done)} of ${count(files.of)}${more ? '+' : ''} files` : '';
}

function showAmount({ done, of, unit, more }: Progress): string {
  const show = (n: number) => (unit === 'bytes' ? bytes(n) : count(n));
  return of > 0 ? `${show(done)} of ${show(of)}${more ? '+' : ''}` : `${show(done)} ${unit}`;
}

async function makeBar(): Promise<SingleBar> {
  const { default: progress } = await import('cli-progress');
  const { BarFormat, TimeFormat } = progress.Format;
  return new progress.SingleBar({
    format: (options, { progress: part, eta }, { of, rate, what, more }) => {
      const text = `${of} · ${rate}`;
      // Of an unknown whole there is no part.
      if (more) return ` still listing · ${text} · ${what}`;
      const left = `${TimeFormat(eta, options, 5)} left`;
      return ` ${BarFormat(part, options)} ${Math.floor(100 * part)} % · ${text} · ${left} · ${what}`;
    },
    barCompleteChar: '█',
    barIncompleteChar: '░',
    barsize: 24,
    stream: process.stderr,
    clearOnComplete: true,
    hideCursor: true,
    fps: 10,
  });
}

const marks = { stop: 'STOP', warn: 'warn', note: 'note' } as const;

function painters(colors: Terminal['colors']): Record<Finding['level'], (text: string) => string> {
  return { stop: text => colors.bold(colors.red(text)), warn: colors.yellow, note: colors.cyan };
}

/** Findings as text, the gravest first: level, code and place, then what was seen and what to do. */
export function showFindings(findings: readonly Finding[], colors: Terminal['colors']): string {
  const paint = painters(colors);
  return findings
    .map(({ level, code, place, what, remedy }) => {
      const head = `${paint[level](marks[level])}  ${colors.bold(code)}  ${colors.dim(showable(place))}`;
      return `${head}\n${wrapped('', what)}${wrapped('→ ', remedy)}`;
    })
    .join('');
}

/** Text in lines that fit the terminal, set in under its finding. */
function wrapped(mark: string, text: string): string {
  const indent = ' '.repeat(6 + mark.length);
  const width = Math.min(terminalColumns(), 140) - indent.length;
  const lines = wrapAnsi(showable(text), width).split('\n');
  return `      ${mark}${lines.join(`\n${indent}`)}\n`;
}

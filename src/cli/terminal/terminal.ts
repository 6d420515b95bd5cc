import pc from 'picocolors';
import wrapAnsi from 'wrap-ansi';
import type { Finding } from '../../core/findings/findings.js';
import { showable } from '../../core/text/display.js';
import type { EventSink, StreamName } from '../../steps/move/events.js';
import type { Common } from './common-options.js';
import { type Progress, ProgressLines, progressText } from './progress-lines.js';
import { cut, terminalColumns } from './table.js';

/** How often a log gets a line of progress, in milliseconds. */
const logEvery = 10_000;

/** Results go to stdout, progress and messages to stderr; a person sees a live line, a log plain lines. */
export class Terminal {
  readonly colors: ReturnType<typeof pc.createColors>;
  private readonly argv: Common;
  private readonly lines: ProgressLines | undefined;
  /** When a line of progress was written last, of each thing that is done. */
  private readonly lastLines = new Map<StreamName | undefined, number>();
  private readonly began = Date.now();
  private lastMessage = { text: '', at: 0 };

  private constructor(argv: Common, lines: ProgressLines | undefined) {
    this.argv = argv;
    this.lines = lines;
    this.colors = pc.createColors(argv.color && pc.isColorSupported);
  }

  static async open(argv: Common): Promise<Terminal> {
    const live = process.stderr.isTTY && !argv.quiet && !argv.jsonEvents;
    return new Terminal(argv, live ? await ProgressLines.open() : undefined);
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
    this.lines?.end();
  }

  private progress(event: Progress): void {
    if (this.lines) {
      this.lines.show(event);
      return;
    }
    const last = this.lastLines.get(event.stream) ?? this.began;
    if (this.argv.quiet || Date.now() - last < logEvery) return;
    this.lastLines.set(event.stream, Date.now());
    process.stderr.write(`${progressText(event)}\n`);
  }
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

import { DeclinedError, ExitCode, PorterError } from '../../core/errors.js';
import { showable } from '../../core/text/display.js';
import { toPorterError } from '../../ends/system-errors.js';

/** So many characters of a line are shown. */
const longestLine = 600;

/** A line without its middle, where a name in it is as long as a page. */
function shortened(line: string): string {
  if (line.length <= longestLine) return line;
  const half = longestLine / 2;
  return `${line.slice(0, half)} … ${line.slice(-half)}`;
}

/**
 * Shows an error on stderr in at most three lines: what was being done and what came back, then what to try. A
 * stack trace comes only when asked for.
 * @returns the exit code
 */
export function showError(raised: unknown, verbose: boolean): number {
  const error = raised instanceof Error ? toPorterError(raised, 'Working on this machine’s files') : raised;
  if (error instanceof DeclinedError) {
    process.stderr.write('Nothing was done.\n');
    return ExitCode.interrupted;
  }
  if (error instanceof Error && (error.name === 'AbortError' || error.name === 'ExitPromptError')) {
    process.stderr.write('Interrupted. Run the same command again; it resumes where it was.\n');
    return ExitCode.interrupted;
  }
  if (error instanceof PorterError) {
    const { doing, cause, remedy } = error.details;
    const lines = `${doing}: ${cause}`.split('\n').map(line => shortened(showable(line)));
    process.stderr.write(`${lines.join('\n')}\n→ ${showable(remedy)}\n`);
    if (verbose) process.stderr.write(`${error.stack}\n`);
    return error.exitCode;
  }
  if (typeof error === 'string') {
    process.stderr.write(`${error}\n→ Add --help to see how the command is used\n`);
    return ExitCode.usage;
  }
  const message = error instanceof Error ? error.message : String(error);
  process.stderr.write(`Something went wrong that this program did not foresee: ${showable(message)}\n`);
  process.stderr.write('→ Run it again with --verbose and report what it says\n');
  if (verbose && error instanceof Error) process.stderr.write(`${error.stack}\n`);
  return ExitCode.partWay;
}

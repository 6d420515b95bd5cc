import { spawn } from 'node:child_process';
import { program } from './program.js';

/** Runs a command at a terminal and types an answer whenever a question is there. */
export function converse(
  cwd: string,
  args: readonly string[],
  answers: [asked: RegExp, typed: string][],
  env: Record<string, string> = {},
): Promise<string> {
  return new Promise((resolve, reject) => {
    const words = [process.execPath, program, ...args].map(word => `'${word}'`).join(' ');
    const child = spawn('script', ['-qec', words, '/dev/null'], {
      cwd,
      env: { ...process.env, COLUMNS: '120', NO_COLOR: '1', ...env },
    });
    const timer = setTimeout(() => child.kill('SIGKILL'), 600_000);
    let said = '';
    let from = 0;
    child.stdout.on('data', chunk => {
      said += String(chunk);
      const [asked, typed] = answers[0] ?? [];
      if (!asked?.test(said.slice(from))) return;
      answers.shift();
      from = said.length;
      // Ctrl-C is a signal only once the question before has given the terminal back.
      if (typed === '\x03') setTimeout(() => child.stdin.write(typed), 500);
      else child.stdin.write(`${typed}\r`);
    });
    child.on('error', reject);
    child.on('close', code => {
      clearTimeout(timer);
      if (code === 0 && answers.length === 0) resolve(said);
      else reject(new Error(`ended with ${code}, ${answers.length} questions were not asked: ${said}`));
    });
  });
}

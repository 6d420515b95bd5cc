import { spawn } from 'node:child_process';
import { mkdtempSync, rmSync } from 'node:fs';
import { tmpdir } from 'node:os';
import { join } from 'node:path';
import type { TestContext } from 'node:test';
import { fileURLToPath } from 'node:url';

/** The built program. */
export const program = fileURLToPath(new URL('../../dist/cli/main.js', import.meta.url));

export interface Ran {
  readonly code: number | null;
  readonly stdout: string;
  readonly stderr: string;
}

interface RunOptions {
  readonly cwd?: string;
  readonly input?: string | Buffer;
  readonly env?: Record<string, string>;
  readonly uid?: number;
  /** Kill it (SIGKILL) after so many milliseconds. */
  readonly killAfter?: number;
  /** Send it SIGINT, as Ctrl-C does, as soon as this is so. */
  readonly interruptWhen?: () => boolean;
}

/** Runs the built program as a person's shell would, without a terminal. */
export function run(args: readonly string[], options: RunOptions = {}): Promise<Ran> {
  return new Promise((resolve, reject) => {
    const child = spawn(process.execPath, [program, ...args], {
      cwd: options.cwd,
      env: { PATH: process.env.PATH, HOME: process.env.HOME, NO_COLOR: '1', ...options.env },
      uid: options.uid,
      gid: options.uid,
    });
    const out: Buffer[] = [];
    const err: Buffer[] = [];
    child.stdout.on('data', chunk => out.push(chunk));
    child.stderr.on('data', chunk => err.push(chunk));
    child.on('error', reject);
    const timer =
      options.killAfter === undefined
        ? undefined
        : setTimeout(() => child.kill('SIGKILL'), options.killAfter);
    const interrupt = setInterval(() => {
      if (!options.interruptWhen?.()) return;
      clearInterval(interrupt);
      child.kill('SIGINT');
    }, 20);
    child.on('close', code => {
      clearTimeout(timer);
      clearInterval(interrupt);
      resolve({ code, stdout: Buffer.concat(out).toString(), stderr: Buffer.concat(err).toString() });
    });
    child.stdin.on('error', () => {});
    child.stdin.end(options.input);
  });
}

/** A temporary folder that goes with the test. */
export function folder(t: TestContext): string {
  const path = mkdtempSync(join(tmpdir(), 'able-porter-test-'));
  t.after(() => rmSync(path, { recursive: true, force: true }));
  return path;
}

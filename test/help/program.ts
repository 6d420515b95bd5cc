import { type ChildProcess, spawn } from 'node:child_process';
import { mkdtempSync, readFileSync, rmSync } from 'node:fs';
import { tmpdir } from 'node:os';
import { join } from 'node:path';
import { after, type TestContext } from 'node:test';
import { fileURLToPath } from 'node:url';

const killing = new URL('kill-at.mjs', import.meta.url).href;

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
  /** Kill it (SIGKILL) at this operation on a file or the network, counted from 1. */
  readonly killAt?: number | undefined;
  /** Is given what kills it (SIGKILL), as soon as it runs. */
  readonly onStart?: ((kill: () => void) => void) | undefined;
  /** Is given what it prints, on both outputs. */
  readonly onOutput?: (text: string) => void;
  /** Write the number of its operations into this file when it ends. */
  readonly countTo?: string;
  /** Send it SIGINT, as Ctrl-C does, as soon as this is so. */
  readonly interruptWhen?: () => boolean;
}

const running = new Set<ChildProcess>();

// What a test has left behind when it failed would keep the runner waiting.
after(() => {
  for (const child of running) child.kill('SIGKILL');
});

/** Runs the built program as a person's shell would, without a terminal. */
export function run(args: readonly string[], options: RunOptions = {}): Promise<Ran> {
  return new Promise((resolve, reject) => {
    const counts = options.killAt !== undefined || options.countTo !== undefined;
    const before = counts ? ['--import', killing] : [];
    const child = spawn(process.execPath, [...before, program, ...args], {
      cwd: options.cwd,
      env: {
        PATH: process.env.PATH,
        HOME: process.env.HOME,
        NO_COLOR: '1',
        ...countsOf(options),
        ...options.env,
      },
      uid: options.uid,
      gid: options.uid,
    });
    running.add(child);
    const out: Buffer[] = [];
    const err: Buffer[] = [];
    child.stdout.on('data', chunk => out.push(chunk));
    child.stderr.on('data', chunk => err.push(chunk));
    const { onOutput } = options;
    if (onOutput)
      for (const output of [child.stdout, child.stderr]) output.on('data', chunk => onOutput(String(chunk)));
    child.on('error', reject);
    options.onStart?.(() => child.kill('SIGKILL'));
    const interrupt = setInterval(() => {
      if (!options.interruptWhen?.()) return;
      clearInterval(interrupt);
      child.kill('SIGINT');
    }, 20);
    child.on('close', code => {
      clearInterval(interrupt);
      running.delete(child);
      resolve({ code, stdout: Buffer.concat(out).toString(), stderr: Buffer.concat(err).toString() });
    });
    child.stdin.on('error', () => {});
    child.stdin.end(options.input);
  });
}

function countsOf({ killAt, countTo }: RunOptions): Record<string, string> {
  return {
    ...(killAt === undefined ? {} : { KILL_AT: String(killAt) }),
    ...(countTo === undefined ? {} : { COUNT_TO: countTo }),
  };
}

/** How many operations on files and the network a run takes that ends well. */
export async function operationsOf(
  t: TestContext,
  args: readonly string[],
  options: RunOptions = {},
): Promise<number> {
  const countTo = join(folder(t), 'count');
  const ran = await run(args, { ...options, countTo });
  if (ran.code !== 0) throw new Error(`${args.join(' ')}: ${ran.code} ${ran.stderr}`);
  return Number(readFileSync(countTo, 'utf8'));
}

/** Numbers between 0 and 1 that are the same in every run. */
export function numbers(seed: number): () => number {
  let state = seed;
  return () => {
    state = (state * 1_103_515_245 + 12_345) % 2 ** 31;
    return state / 2 ** 31;
  };
}

/** A temporary folder that goes with the test. */
export function folder(t: TestContext): string {
  const path = mkdtempSync(join(tmpdir(), 'able-porter-test-'));
  t.after(() => rmSync(path, { recursive: true, force: true }));
  return path;
}

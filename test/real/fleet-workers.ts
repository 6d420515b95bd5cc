import { type ChildProcess, execFileSync, spawn } from 'node:child_process';
import { once } from 'node:events';
import type { TestContext } from 'node:test';
import type { SiteProgress } from '../../src/core/fleet/outcome.js';
import { program, type Ran } from '../help/program.js';

/** A worker of a fleet, in a process of its own. */
export class OwnWorker {
  readonly process: ChildProcess;
  said = '';

  constructor(
    t: TestContext,
    cwd: string,
    url: string,
    {
      atOnce,
      perHost,
      adopt,
    }: { readonly atOnce: number; readonly perHost: number; readonly adopt?: string },
  ) {
    const options = ['--queue', url, '--at-once', String(atOnce), '--per-host', String(perHost)];
    if (adopt !== undefined) options.push('--adopt', adopt);
    this.process = spawn(process.execPath, [program, 'fleet', 'work', ...options, '--json-events'], {
      cwd,
      env: { PATH: process.env.PATH, HOME: process.env.HOME },
      stdio: ['ignore', 'pipe', 'pipe'],
    });
    for (const out of [this.process.stdout!, this.process.stderr!])
      out.on('data', data => {
        this.said += data;
      });
    t.after(async () => {
      this.signal('SIGCONT');
      await this.end('SIGKILL');
    });
  }

  get isWorking(): boolean {
    return this.children().length > 0;
  }

  children(): number[] {
    try {
      return execFileSync('ps', ['-o', 'pid=', '--ppid', String(this.process.pid)], { encoding: 'utf8' })
        .trim()
        .split(/\s+/)
        .map(Number);
    } catch {
      return [];
    }
  }

  /** To the worker and the processes of its sites: the machine stands still, or goes on. */
  signal(name: 'SIGSTOP' | 'SIGCONT'): void {
    for (const pid of [this.process.pid!, ...this.children()]) {
      try {
        process.kill(pid, name);
      } catch {
        // It has ended.
      }
    }
  }

  async end(name: 'SIGKILL' | 'SIGTERM'): Promise<void> {
    if (this.process.exitCode !== null || this.process.signalCode !== null) return;
    const gone = once(this.process, 'exit');
    this.process.kill(name);
    await gone;
  }
}

/** The sites of what a fleet's command shows with --json-events. */
export function sitesOf({ stdout }: Ran): readonly SiteProgress[] {
  const result = stdout.trim().split('\n').at(-1)!;
  return (JSON.parse(result) as { result: { sites: readonly SiteProgress[] } }).result.sites;
}

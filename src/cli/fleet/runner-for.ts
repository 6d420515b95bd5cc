import { UsageError } from '../../core/errors.js';
import { childRunner } from '../../steps/fleet/child.js';
import type { Fleet } from '../../steps/fleet/fleet.js';
import { OnThisMachine } from '../../steps/fleet/on-this-machine.js';
import type { FleetRunner } from '../../steps/fleet/runner.js';
import type { FleetArguments } from './arguments.js';

/** Who works through the fleet: this machine, or those that wait at a queue. @param say shows a message */
export function runnerFor(
  argv: FleetArguments,
  fleet: Fleet,
  say: (text: string) => void,
): (run: string) => FleetRunner {
  const queue = queueOf(argv, fleet);
  if (queue !== undefined) {
    return run => ({
      run: async (...given) => {
        // It loads the packages of the queue.
        const { OnTheQueue } = await import('../../steps/fleet/queue.js');
        await new OnTheQueue(fleet.name, queue, run, say).run(...given);
      },
    });
  }
  const limits = limitsOf(argv, fleet);
  return () => new OnThisMachine(childRunner(programFile(), fleet.environment), limits);
}

/** The server of the queue, where there is one; its variables come from the environment or .env beside the fleet. */
export function queueOf({ queue }: FleetArguments, { wish, environment }: Fleet): string | undefined {
  const url = queue ?? (wish.queue || undefined);
  return url?.replace(/\$\{(\w+)\}/g, (_whole, name: string) => encodeURIComponent(environment[name] ?? ''));
}

/** So many sites at once, and at one host. */
export function limitsOf({ atOnce, perHost }: FleetArguments, { wish }: Fleet) {
  return { atOnce: atOnce ?? wish['at-once'], perHost: perHost ?? wish['per-host'] };
}

/** The file of this program, which runs again for every site. */
export function programFile(): string {
  const [, file] = process.argv;
  if (file !== undefined) return file;
  throw new UsageError({
    doing: 'Starting a process for each site',
    cause: 'this program does not know its own file',
    remedy: 'Run it as able-porter',
  });
}

import { readdir, readFile, stat } from 'node:fs/promises';
import { dirname, join } from 'node:path';
import { onlyLooks } from '../../core/fleet/commands.js';
import type { SiteOutcome } from '../../core/fleet/outcome.js';
import { writeWhole } from '../../ends/whole-file.js';
import type { Fleet, FleetSite } from './fleet.js';

/** How a command ended on a site. */
interface Site {
  /** Of its sheet. */
  readonly digest: string;
  /** The bytes of its move's journal then: something else was done since, where it has more. */
  readonly journal: number | undefined;
  /** When it ended: ISO 8601, UTC. */
  readonly at: string;
  readonly outcome: SiteOutcome;
}

/** What the runs of a command have done to the sites of a fleet. */
interface Recorded {
  readonly command: string;
  readonly sites: Record<string, Site>;
}

/** The record of a command, kept beside the moves. */
export class FleetRecord {
  private readonly file: string;
  private readonly recorded: Recorded;
  /** When another command changed something on a site last. */
  private readonly changed: ReadonlyMap<string, string>;
  private writing: Promise<void> = Promise.resolve();

  private constructor(file: string, recorded: Recorded, changed: FleetRecord['changed']) {
    this.file = file;
    this.recorded = recorded;
    this.changed = changed;
  }

  static async open(fleet: Fleet, command: string): Promise<FleetRecord> {
    const file = fleetFile(fleet, `${command.replace(/\W+/g, '-')}.json`);
    const text = await readFile(file, 'utf8').catch(() => undefined);
    const last = text === undefined ? undefined : (JSON.parse(text) as Recorded);
    const recorded = last?.command === command ? last : { command, sites: {} };
    const others = await lastOutcomes(fleet, other => other !== command && !onlyLooks(other));
    return new FleetRecord(file, recorded, new Map([...others].map(([site, { at }]) => [site, at])));
  }

  /** Takes some sites for ones on which it was not done. */
  forget(sites: readonly FleetSite[]): void {
    for (const { name } of sites) delete this.recorded.sites[name];
  }

  /** How it ended on a site, where it did and nothing was done with its move since. */
  async outcomeOf(site: FleetSite): Promise<SiteOutcome | undefined> {
    const known = this.recorded.sites[site.name];
    const journal = await journalBytes(site);
    if (known?.digest !== site.digest || known.journal !== journal) return undefined;
    // Where the move folder is on another machine, only the records of the fleet say what was done since.
    const isLast = journal !== undefined || known.at > (this.changed.get(site.name) ?? '');
    return isLast ? known.outcome : undefined;
  }

  note(site: FleetSite, outcome: SiteOutcome): void {
    // One after the other: each writes all that is known.
    this.writing = this.writing.then(async () => {
      this.recorded.sites[site.name] = {
        digest: site.digest,
        journal: await journalBytes(site),
        at: new Date().toISOString(),
        outcome,
      };
      await writeWhole(this.file, JSON.stringify(this.recorded));
    });
    this.writing.catch(() => {});
  }

  /** Waits until all is on the disk. */
  async settle(): Promise<void> {
    await this.writing;
  }
}

/** The last word on a site, of whatever command was run on it. */
export interface LastOutcome {
  readonly at: string;
  readonly command: string;
  readonly outcome: SiteOutcome;
}

/** How the runs of some commands ended last, by site; of all, if nothing is said. */
export async function lastOutcomes(
  fleet: Fleet,
  counts: (command: string) => boolean = () => true,
): Promise<Map<string, LastOutcome>> {
  const folder = dirname(fleetFile(fleet, 'id'));
  const last = new Map<string, LastOutcome>();
  for (const file of await readdir(folder).catch(() => [])) {
    if (!file.endsWith('.json')) continue;
    const { command, sites } = JSON.parse(await readFile(join(folder, file), 'utf8')) as Recorded;
    if (!counts(command)) continue;
    for (const [name, { at, outcome }] of Object.entries(sites))
      if (at > (last.get(name)?.at ?? '')) last.set(name, { at, command, outcome });
  }
  return last;
}

async function journalBytes({ sheet }: FleetSite): Promise<number | undefined> {
  return stat(join(dirname(sheet), 'journal.ndjson')).then(
    ({ size }) => size,
    () => undefined,
  );
}

/** A file of the fleet itself, beside the moves. */
export function fleetFile({ moves }: Pick<Fleet, 'moves'>, name: string): string {
  return join(moves, '.fleet', name);
}

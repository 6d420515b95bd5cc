import { siteCommands } from '../../core/fleet/commands.js';
import type { Common } from '../terminal/common-options.js';

export const whats = [...siteCommands, 'status', 'report', 'find', 'work'] as const;

/** The words and options of `fleet`. */
export interface FleetOptions {
  readonly what: (typeof whats)[number];
  readonly action: string | undefined;
  readonly fleet: string;
  readonly only: readonly string[] | undefined;
  readonly atOnce: number | undefined;
  readonly perHost: number | undefined;
  readonly again: boolean;
  readonly queue: string | undefined;
  readonly adopt: readonly string[] | undefined;
  readonly wave: number | undefined;
  readonly out: string | undefined;
  readonly depth: number;
  readonly key: string | undefined;
  readonly hostKey: string | undefined;
  /** Options for the command of each site. */
  readonly with: readonly string[] | undefined;
}

export type FleetArguments = FleetOptions & Common;

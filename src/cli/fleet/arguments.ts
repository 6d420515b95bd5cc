import type { Common } from '../terminal/common-options.js';

/** Commands that are run on every site as they are. Those that change something are asked for once. */
const onSites = [
  'survey',
  'pack',
  'rewrite',
  'deliver',
  'check',
  'redirects',
  'cutover',
  'go',
  'undo',
  'tidy',
] as const;
export const whats = [...onSites, 'status', 'report', 'find', 'work'] as const;

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
  readonly wave: number | undefined;
  readonly out: string | undefined;
  readonly depth: number;
  readonly key: string | undefined;
  readonly hostKey: string | undefined;
  /** Options for the command of each site. */
  readonly with: readonly string[] | undefined;
}

export type FleetArguments = FleetOptions & Common;

import type { Program } from '../../../core/database/content/dump-content.js';
import type { EditDone } from './site-data.js';
import type { TableProof } from './verify.js';

/** The result of a load. */
export interface LoadedDatabase {
  readonly database: string;
  readonly server: string;
  /** How it was put there. */
  readonly how: 'swapped' | 'in place' | 'not loaded';
  /** How many tables were loaded as a whole, stay as they were, and had rows changed; and how many rows. */
  readonly loaded: number;
  readonly same: number;
  readonly changing: number;
  readonly changedRows: number;
  readonly rows: number;
  readonly tables: readonly TableProof[];
  /** Views, triggers and the like that the dump made. */
  readonly programs: readonly Program[];
  /** Tables that were there and are kept in a dump. */
  readonly dropped: readonly string[];
  readonly keepsake: string | undefined;
  /** What was changed so that the server takes the dump, and how often. */
  readonly fitted: Readonly<Record<string, number>>;
  readonly edits: readonly EditDone[];
  /** What was made with the administrator's credentials. */
  readonly made: readonly string[];
}

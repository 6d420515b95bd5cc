import { createHash } from 'node:crypto';
import type { WrittenChange } from './dns/zone/set-change.js';
import { DamageError } from './errors.js';

/** The steps of a move, in their order. */
export const stepNames = [
  'survey',
  'pack',
  'rewrite',
  'deliver',
  'configure',
  'check',
  'redirects',
  'cutover',
  'tidy',
  'undo',
] as const;
export type StepName = (typeof stepNames)[number];

/** Why something at the new end is kept: a delivery replaced it, or `undo` took it away. */
export type KeptBy = 'first delivery' | 'delivery' | 'undo';

/** What was listed of files that are kept. */
export interface KeptListing {
  readonly files: number;
  readonly bytes: number;
  /** SHA-256 of names, kinds and sizes, in hex. */
  readonly digest: string;
}

/** A foreign key of a table that is kept: it has another name until the table is in its place again. */
export interface KeptConstraint {
  readonly table: string;
  readonly name: string;
  readonly now: string;
  readonly definition: string;
}

/**
 * One thing that a step did and that a later step builds on: `undo` takes it back, `tidy` clears it away, the next run
 * resumes after it. Places and databases are written as they are shown, without passwords; files by their paths in the
 * move folder. Keepsakes are numbered from 1.
 */
export type Deed =
  /** From here until the step is done, the site at the new end is neither what it was nor what it is to be. */
  | {
      readonly kind: 'changing';
      /** The keepsake that is restored. */
      readonly keepsake?: number;
    }
  /**
   * What is at a place is about to be exchanged with what waits or is kept beside it: `put` or `taken away` follows. Where a
   * run was killed in between, the keepsake of the first delivery shows which one is true.
   */
  | { readonly kind: 'exchanging'; readonly place: string }
  /** What was delivered is at a place of the new end, or about to be put there where nothing is. */
  | { readonly kind: 'put'; readonly place: string }
  /** What was at a place before is about to be moved into a keepsake, as a whole. */
  | {
      readonly kind: 'kept';
      readonly place: string;
      readonly keepsake: string;
      readonly number: number;
      readonly by: KeptBy;
    }
  /** Those files of a place that are replaced are about to be moved into a keepsake. */
  | {
      readonly kind: 'files kept';
      readonly place: string;
      readonly keepsake: string;
      readonly number: number;
      readonly by: KeptBy;
    }
  /** What is kept of a place was listed. */
  | {
      readonly kind: 'files listed';
      readonly place: string;
      readonly number: number;
      readonly listing: KeptListing;
    }
  /** What was delivered at a place was removed again. */
  | { readonly kind: 'taken away'; readonly place: string }
  /** A web root cannot be renamed: staging and keepsake are inside it. */
  | { readonly kind: 'staged inside'; readonly place: string }
  /** Tables of a database are about to be loaded, in their place or beside it. */
  | { readonly kind: 'loaded'; readonly database: string; readonly tables: readonly string[] }
  /** Tables are about to be kept in their database under other names; none where nothing was there. */
  | {
      readonly kind: 'tables kept';
      readonly database: string;
      readonly number: number;
      readonly by: KeptBy;
      readonly tables: readonly { readonly name: string; readonly as: string }[];
      readonly constraints: readonly KeptConstraint[];
      /** Where what works on them (triggers, views) is written. */
      readonly programs: string | undefined;
      /** They are what an earlier delivery put there, and nobody has changed them since: they may go at once. */
      readonly isSpare: boolean;
    }
  /** What the server computes of tables that are kept in their database, now that nobody writes them. */
  | {
      readonly kind: 'tables summed';
      readonly number: number;
      readonly database: string;
      readonly sums: Readonly<Record<string, string>>;
    }
  /** Tables are kept in a dump. */
  | {
      readonly kind: 'dump kept';
      readonly database: string;
      readonly number: number;
      readonly by: KeptBy;
      readonly tables: readonly string[];
      readonly file: string;
      /** SHA-256 of the file, in hex. */
      readonly sha256: string;
    }
  /** What rows were before a delivery changed them is kept, as statements that put them back. */
  | {
      readonly kind: 'rows kept';
      readonly database: string;
      readonly number: number;
      readonly by: KeptBy;
      /** Nobody but deliveries of this move had written them. */
      readonly isSpare: boolean;
      readonly rows: number;
      readonly tables: readonly string[];
      readonly file: string;
    }
  /** Tables of a keepsake that were what an earlier delivery had put there are gone again. */
  | { readonly kind: 'tables dropped'; readonly number: number; readonly database: string }
  /** A keepsake was put back, or removed, and is no longer there. */
  | { readonly kind: 'keepsake gone'; readonly number: number; readonly what: 'files' | 'database' }
  /** A database is again as it was. */
  | { readonly kind: 'database restored'; readonly database: string }
  /** A database or user was made with the administrator's credentials. */
  | { readonly kind: 'provisioned'; readonly database: string; readonly made: readonly string[] }
  | { readonly kind: 'unprovisioned'; readonly database: string }
  /** A maintenance page is about to be put at the new site, and was removed. Paths are bytes, one a character. */
  | { readonly kind: 'gate closed'; readonly place: string; readonly paths: readonly string[] }
  | { readonly kind: 'gate opened'; readonly place: string }
  /** Files that setting up has written are about to be put there, with the SHA-256 of each; empty for one that goes. */
  | { readonly kind: 'set up'; readonly files: Readonly<Record<string, string>> }
  /** An extension is about to be switched off until `tidy`. */
  | { readonly kind: 'held back'; readonly extension: string }
  /** A person said that visitors use the new site, or no longer do. */
  | { readonly kind: 'went live' }
  | { readonly kind: 'went back' }
  /** Redirects are about to be put into a file of an end, whose content before is kept; they were taken out of it. */
  | {
      readonly kind: 'redirects put';
      readonly place: string;
      readonly file: string;
      /** Where what was there is kept; undefined where nothing was. */
      readonly kept: string | undefined;
    }
  | { readonly kind: 'redirects taken back'; readonly place: string }
  /** Record sets of a zone are about to change in a phase of the cutover; all that was changed there was taken back. */
  | {
      readonly kind: 'zone changing';
      readonly zone: string;
      readonly phase: CutoverPhase;
      readonly changes: readonly WrittenChange[];
    }
  | { readonly kind: 'zone restored'; readonly zone: string }
  /** The old site is about to refuse what writes, until a time (ISO 8601); it was opened again. */
  | { readonly kind: 'frozen'; readonly place: string; readonly file: string; readonly until: string }
  | { readonly kind: 'thawed'; readonly place: string }
  /** A file by which one sees which host answers is about to be put at an end, and was removed. */
  | { readonly kind: 'marker put'; readonly place: string; readonly path: string }
  | { readonly kind: 'marker removed'; readonly place: string }
  /** A file that asks the language about itself is about to be put at the new end, and was removed. */
  | { readonly kind: 'probe put'; readonly place: string }
  | { readonly kind: 'probe removed'; readonly place: string }
  /** A hatch of this name is about to be put into the web root of an end, and is gone. */
  | { readonly kind: 'hatch put'; readonly place: string; readonly name: string }
  | { readonly kind: 'hatch gone'; readonly name: string }
  /** A crate of this name is about to be whole at a store, and is about to be removed from it. */
  | { readonly kind: 'crate stored'; readonly place: string; readonly name: string }
  | { readonly kind: 'crate removed'; readonly place: string; readonly name: string };

/** A phase of the cutover in which records change. */
export const cutoverPhases = ['prepare', 'switch', 'raise'] as const;
export type CutoverPhase = (typeof cutoverPhases)[number];

const deedKinds: Readonly<Record<Deed['kind'], true>> = {
  'zone changing': true,
  'zone restored': true,
  frozen: true,
  thawed: true,
  'marker put': true,
  'marker removed': true,
  changing: true,
  exchanging: true,
  put: true,
  kept: true,
  'files kept': true,
  'files listed': true,
  'taken away': true,
  'staged inside': true,
  loaded: true,
  'tables kept': true,
  'tables summed': true,
  'dump kept': true,
  'rows kept': true,
  'tables dropped': true,
  'keepsake gone': true,
  'database restored': true,
  provisioned: true,
  unprovisioned: true,
  'gate closed': true,
  'gate opened': true,
  'set up': true,
  'held back': true,
  'redirects put': true,
  'redirects taken back': true,
  'went live': true,
  'went back': true,
  'probe put': true,
  'probe removed': true,
  'hatch put': true,
  'hatch gone': true,
  'crate stored': true,
  'crate removed': true,
};

/** One line of the journal. */
export interface JournalRecord {
  /** ISO 8601, UTC. */
  readonly at: string;
  readonly step: StepName;
  readonly event: 'began' | 'did' | 'done' | 'stopped' | 'failed';
  /** What the step was done on, as a digest; equal inputs need not be worked on again. */
  readonly inputs?: string;
  /** For `did`: what was done within the step. */
  readonly deed?: Deed;
  readonly seconds?: number;
  /** Counts and names that later steps and `status` read. Never a secret. */
  readonly result?: Readonly<Record<string, unknown>>;
  readonly error?: string;
}

/** Hex digits of a line's checksum. */
const sumDigits = 16;

/** A record as a line of the journal: JSON, the last member of which is a checksum of what is before it. */
export function journalLine(record: JournalRecord): string {
  const text = JSON.stringify(record).slice(0, -1);
  return `${text},"sum":"${sumOf(text)}"}\n`;
}

function sumOf(text: string): string {
  return createHash('sha256').update(text).digest('hex').slice(0, sumDigits);
}

/**
 * Reads a journal's text. A last line that a crash cut short is skipped.
 * @throws DamageError for a line that was changed, or a deed that this version does not know: nothing may be done or taken back
 *   on half the knowledge
 */
export function readJournal(text: string): JournalRecord[] {
  const records: JournalRecord[] = [];
  const lines = text.split('\n');
  // What comes after the last line end was being written when the machine stopped.
  for (const [i, line] of lines.slice(0, -1).entries()) {
    const record = recordOf(line);
    if (!record) throw damaged(i, 'it was changed, or the disk has damaged it');
    if (record.event === 'did' && !(record.deed && Object.hasOwn(deedKinds, record.deed.kind)))
      throw damaged(i, 'it was written by another version of Able Porter');
    records.push(record);
  }
  return records;
}

function recordOf(line: string): JournalRecord | undefined {
  const [, before, sum] = /^(.*),"sum":"([0-9a-f]+)"\}$/.exec(line) ?? [];
  if (before === undefined || sumOf(before) !== sum) return undefined;
  return JSON.parse(`${before}}`) as JournalRecord;
}

function damaged(i: number, cause: string): DamageError {
  return new DamageError({
    doing: `Reading line ${i + 1} of the journal`,
    cause,
    remedy:
      'Put journal.ndjson back from a backup of the move folder. Without it nobody knows what to take back: look by hand at what is at the new end, and begin a new move folder',
  });
}

/** The state of a step. */
export interface StepState {
  readonly state: 'not yet' | 'begun' | 'done' | 'stopped' | 'failed';
  readonly record: JournalRecord | undefined;
}

/** The last word of the journal on a step. What `undo` or `tidy` removed is not done any more. */
export function stateOf(records: readonly JournalRecord[], step: StepName): StepState {
  const last = records.findLast(record =>
    record.step === step ? record.event !== 'did' : undoes(record, step),
  );
  if (!last || last.step !== step) return { state: 'not yet', record: undefined };
  return { state: last.event === 'began' ? 'begun' : (last.event as StepState['state']), record: last };
}

/** Whether a record of another step means that this one is not done any more. An `undo` need not come to its end for that. */
function undoes(record: JournalRecord, step: StepName): boolean {
  if (record.event !== 'done' && record.deed?.kind !== 'changing') return false;
  if (record.step === 'undo') return step === 'deliver' || step === 'configure' || step === 'check';
  return record.step === 'tidy' && (step === 'pack' || step === 'rewrite');
}

/** A digest of what a step works on. Key order does not matter to it. */
export function digestOf(inputs: unknown): string {
  return createHash('sha256').update(canonical(inputs)).digest('hex').slice(0, 32);
}

/** Enough of a secret's digest to see that it changed, too little to guess it from. */
export function traceOfSecret(secret: string | undefined): string {
  return secret === undefined
    ? ''
    : createHash('sha256').update(`trace\0${secret}`).digest('hex').slice(0, 4);
}

function canonical(value: unknown): string {
  if (Array.isArray(value)) return `[${value.map(canonical).join()}]`;
  if (typeof value !== 'object' || value === null) return JSON.stringify(value) ?? 'null';
  const entries = Object.entries(value).filter(([, inner]) => inner !== undefined);
  return `{${entries
    .sort(([a], [b]) => (a < b ? -1 : 1))
    .map(([key, inner]) => `${JSON.stringify(key)}:${canonical(inner)}`)
    .join()}}`;
}

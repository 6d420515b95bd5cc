import { createHash } from 'node:crypto';

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

/** One line of the journal. */
export interface JournalRecord {
  /** ISO 8601, UTC. */
  readonly at: string;
  readonly step: StepName;
  readonly event: 'began' | 'did' | 'done' | 'stopped' | 'failed';
  /** What the step was done on, as a digest; equal inputs need not be worked on again. */
  readonly inputs?: string;
  /** For `did`: one thing within the step that can be taken back. */
  readonly did?: Readonly<Record<string, string>>;
  readonly seconds?: number;
  /** Counts and names that later steps and `status` read. Never a secret. */
  readonly result?: Readonly<Record<string, unknown>>;
  readonly error?: string;
}

/** Reads a journal's text. A last line that a crash cut short is passed over. */
export function readJournal(text: string): JournalRecord[] {
  const records: JournalRecord[] = [];
  for (const line of text.split('\n')) {
    try {
      if (line) records.push(JSON.parse(line) as JournalRecord);
    } catch {
      // Only a line that was being written when the machine stopped is not JSON.
    }
  }
  return records;
}

/** Where a step stands. */
export interface StepState {
  readonly state: 'not yet' | 'begun' | 'done' | 'stopped' | 'failed';
  readonly record: JournalRecord | undefined;
}

/** The last word of the journal on a step. What `undo` or `tidy` took away is not done any more. */
export function stateOf(records: readonly JournalRecord[], step: StepName): StepState {
  const last = records.findLast(
    record => record.event !== 'did' && (record.step === step || undoes(record, step)),
  );
  if (!last || last.step !== step) return { state: 'not yet', record: undefined };
  return { state: last.event === 'began' ? 'begun' : (last.event as StepState['state']), record: last };
}

function undoes(record: JournalRecord, step: StepName): boolean {
  if (record.event !== 'done') return false;
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

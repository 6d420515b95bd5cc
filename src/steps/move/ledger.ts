import { type Deed, type JournalRecord, type StepName, type StepState, stateOf } from '../../core/journal.js';
import type { Move } from './open.js';

/** What was in a new database before this move loaded it. */
export interface DatabaseKeepsake {
  /** As it is shown. */
  readonly database: string;
  /** The dump; undefined where there was nothing to keep. */
  readonly file: string | undefined;
}

/** What the journal adds up to. Every step asks here; nobody else goes through the records. */
export class Ledger {
  readonly records: readonly JournalRecord[];
  /** Places at which something is that a delivery put there. */
  readonly delivered = new Set<string>();
  /** Every place that a delivery has filled or emptied. */
  readonly touched = new Set<string>();
  /** Web roots that cannot be renamed: staging and keepsakes are inside them. */
  readonly stagedInside = new Set<string>();
  /** Databases that this move has loaded and not restored. */
  readonly loaded = new Set<string>();
  /** Extensions that a delivery has switched off. */
  readonly heldBack = new Set<string>();
  /** Probes that a killed run has left. */
  readonly probes = new Set<string>();
  /** Files that setting up wrote, with the SHA-256 of what it wrote last; empty for one that it removed. */
  readonly setUp = new Map<string, string>();
  databaseKeepsake: DatabaseKeepsake | undefined;

  constructor(records: readonly JournalRecord[]) {
    this.records = records;
    for (const record of records) {
      if (record.deed) this.add(record.deed);
      if (record.event === 'done') this.close(record);
    }
  }

  /** The state of a step, and the record that says so. */
  stateOf(step: StepName): StepState {
    return stateOf(this.records, step);
  }

  private add(deed: Deed): void {
    switch (deed.kind) {
      case 'put':
        this.delivered.add(deed.place);
        this.touched.add(deed.place);
        break;
      case 'kept':
        this.touched.add(deed.place);
        break;
      case 'taken away':
        this.delivered.delete(deed.place);
        break;
      case 'staged inside':
        this.stagedInside.add(deed.place);
        break;
      case 'loaded':
        this.loaded.add(deed.database);
        break;
      case 'database kept':
        this.databaseKeepsake = { database: deed.database, file: deed.file };
        break;
      case 'database restored':
        this.loaded.delete(deed.database);
        this.databaseKeepsake = undefined;
        break;
      case 'held back':
        this.heldBack.add(deed.extension);
        break;
      case 'probe put':
        this.probes.add(deed.place);
        break;
      case 'probe removed':
        this.probes.delete(deed.place);
        break;
      default:
        deed satisfies never;
    }
  }

  /** What the end of a step means for what came before it. */
  private close({ step, result }: JournalRecord): void {
    if (step === 'undo') this.delivered.clear();
    if (step === 'tidy') this.databaseKeepsake = undefined;
    if (step === 'undo' || step === 'deliver') this.setUp.clear();
    const written = (result?.setUp ?? {}) as Record<string, string>;
    for (const [path, sha256] of Object.entries(written)) this.setUp.set(path, sha256);
  }
}

/** Reads the journal of a move. */
export async function ledgerOf({ folder }: Pick<Move, 'folder'>): Promise<Ledger> {
  return new Ledger(await folder.readJournal());
}

import {
  type Deed,
  type JournalRecord,
  type KeptBy,
  type KeptListing,
  type StepName,
  type StepState,
  stateOf,
} from '../../core/journal.js';
import type { MoveFolder } from '../../ends/move-folder/move-folder.js';
import { Standing } from './standing.js';

/** What of the files of the new end is kept: all that was at a place, or single files. */
export type KeptFiles = Extract<Deed, { kind: 'kept' | 'files kept' }>;
/** What of a database is kept: tables in it, a dump, or rows. */
export type KeptData = Extract<Deed, { kind: 'tables kept' | 'dump kept' | 'rows kept' }>;

/** What was at the new end and is kept, by its number. */
export interface Keepsake {
  readonly number: number;
  readonly by: KeptBy;
  /** The step that made it. */
  readonly step: StepName;
  /** When, ISO 8601, UTC. */
  readonly at: string;
  readonly files: KeptFiles[];
  /** What was listed of them, by place. */
  readonly listed: Map<string, KeptListing>;
  readonly data: KeptData[];
  /** What the server computed of the tables that are kept, by database and by their names there. */
  readonly sums: Map<string, ReadonlyMap<string, string>>;
}

/**
 * Where a move is in its life: `open` until visitors use the new site, then `live`; `closed` once `tidy` has removed what it
 * left behind.
 */
export type LifeOfMove = 'open' | 'live' | 'closed';

/** What the journal adds up to. Every step asks here; nobody else goes through the records. */
export class Ledger {
  readonly records: readonly JournalRecord[];
  /** Places at which something is that a delivery put there. */
  readonly delivered = new Set<string>();
  /** Every place that a delivery has filled or emptied. */
  readonly touched = new Set<string>();
  /** Places where a run was killed while it exchanged what is there with what is beside it. */
  readonly exchanging = new Set<string>();
  /** Web roots that cannot be renamed: staging and keepsakes are inside them. */
  readonly stagedInside = new Set<string>();
  /** The tables that this move has put into a database, and not taken away again. */
  readonly loaded = new Map<string, Set<string>>();
  /** Extensions that a delivery has switched off. */
  readonly heldBack = new Set<string>();
  /** Probes that a killed run has left. */
  readonly probes = new Set<string>();
  /** Hatches that are there, or that a killed run has left: the web root of each, by name. */
  readonly hatches = new Map<string, string>();
  /** Crates that are at stores. */
  readonly stored = new Set<string>();
  /** Files that setting up wrote, with the SHA-256 of what it wrote last; empty for one that it removed. */
  readonly setUp = new Map<string, string>();
  /** The same of a run that was interrupted: some of them may be there. */
  readonly settingUp = new Map<string, string>();
  /** What is kept, by its number. */
  readonly keepsakes = new Map<number, Keepsake>();
  /** What was made with an administrator's credentials, by database. */
  readonly provisioned = new Map<string, readonly string[]>();
  /** Places that show a maintenance page, and the paths that were changed for it. */
  readonly gates = new Map<string, readonly string[]>();
  /** Which site is at the new end, and on which one a keepsake can be put. */
  readonly standing = new Standing();
  /** The file of an end that has the redirects; undefined where none has them. */
  redirects: string | undefined;
  /** What the cutover has changed in zones, or was about to, in order. */
  readonly zoneChanges: Extract<Deed, { kind: 'zone changing' }>[] = [];
  /** How the old site refuses what writes; undefined where it does not. */
  frozen: Extract<Deed, { kind: 'frozen' }> | undefined;
  /** Markers at the ends, by place. */
  readonly markers = new Map<string, string>();
  life: LifeOfMove = 'open';
  private last = 0;

  constructor(records: readonly JournalRecord[]) {
    this.records = records;
    for (const record of records) {
      if (record.deed) this.add(record.deed, record);
      if (record.event === 'done') this.close(record);
    }
  }

  /** The state of a step, and the record that says so. */
  stateOf(step: StepName): StepState {
    return stateOf(this.records, step);
  }

  /** How a step ended last, whatever was taken away since. */
  lastOf(step: StepName): StepState {
    return stateOf(
      this.records.filter(record => record.step === step),
      step,
    );
  }

  /** The number of the next keepsake. */
  get nextKeepsake(): number {
    return this.last + 1;
  }

  /** What is kept of a database since before the first delivery. */
  firstOf(database: string): KeptData | undefined {
    for (const { by, data } of this.keepsakes.values())
      if (by === 'first delivery') for (const one of data) if (one.database === database) return one;
    return undefined;
  }

  /** Under which number a delivery that is under way keeps what it replaces. */
  get numberOfDelivery(): number {
    return this.pending('deliver')?.number ?? this.nextKeepsake;
  }

  /** The same for `undo`. */
  get numberOfUndo(): number {
    return this.pending('undo')?.number ?? this.nextKeepsake;
  }

  /** The keepsake that a step has begun and that is not whole yet. */
  private pending(step: StepName): Keepsake | undefined {
    const makes: readonly StepName[] = ['deliver', 'configure', 'undo'];
    const ended = this.records.findLast(({ event, step: one }) => event === 'done' && makes.includes(one));
    return [...this.keepsakes.values()].find(one => one.step === step && one.at > (ended?.at ?? ''));
  }

  private add(deed: Deed, record: JournalRecord): void {
    switch (deed.kind) {
      case 'changing':
        this.standing.begin(record.step, deed.keepsake);
        break;
      case 'exchanging':
        this.exchanging.add(deed.place);
        break;
      case 'put':
        this.exchanging.delete(deed.place);
        this.delivered.add(deed.place);
        this.touched.add(deed.place);
        break;
      case 'kept':
      case 'files kept':
        if (deed.kind === 'kept') this.touched.add(deed.place);
        this.keep(deed, record).files.push(deed);
        break;
      case 'files listed':
        this.keepsakes.get(deed.number)?.listed.set(deed.place, deed.listing);
        break;
      case 'taken away':
        this.exchanging.delete(deed.place);
        this.delivered.delete(deed.place);
        break;
      case 'staged inside':
        this.stagedInside.add(deed.place);
        break;
      case 'loaded':
        this.loaded.set(deed.database, new Set([...(this.loaded.get(deed.database) ?? []), ...deed.tables]));
        break;
      case 'tables kept':
      case 'dump kept':
      case 'rows kept': {
        const { data } = this.keep(deed, record);
        // A run that is repeated keeps the same once more.
        const before = data.findIndex(one => one.database === deed.database && one.kind === deed.kind);
        if (before < 0) data.push(deed);
        else data[before] = deed;
        break;
      }
      case 'tables summed':
        this.keepsakes.get(deed.number)?.sums.set(deed.database, new Map(Object.entries(deed.sums)));
        break;
      case 'tables dropped': {
        const kept = this.keepsakes.get(deed.number);
        const at =
          kept?.data.findIndex(one => one.kind === 'tables kept' && one.database === deed.database) ?? -1;
        if (at >= 0) kept!.data.splice(at, 1);
        this.forgetEmpty(deed.number);
        break;
      }
      case 'keepsake gone': {
        const one = this.keepsakes.get(deed.number);
        one?.[deed.what === 'files' ? 'files' : 'data'].splice(0);
        this.forgetEmpty(deed.number);
        break;
      }
      case 'database restored':
        this.loaded.delete(deed.database);
        this.forgetFirst(deed.database);
        break;
      case 'provisioned':
        this.provisioned.set(deed.database, [...(this.provisioned.get(deed.database) ?? []), ...deed.made]);
        break;
      case 'unprovisioned':
        this.provisioned.delete(deed.database);
        break;
      case 'gate closed':
        this.gates.set(deed.place, deed.paths);
        break;
      case 'gate opened':
        this.gates.delete(deed.place);
        break;
      case 'set up':
        for (const [path, sha256] of Object.entries(deed.files)) this.settingUp.set(path, sha256);
        break;
      case 'held back':
        this.heldBack.add(deed.extension);
        break;
      case 'went live':
        this.life = 'live';
        break;
      case 'went back':
        this.life = 'open';
        break;
      case 'redirects put':
        this.redirects = deed.file;
        break;
      case 'redirects taken back':
        this.redirects = undefined;
        break;
      case 'zone changing':
        this.zoneChanges.push(deed);
        break;
      case 'zone restored':
        this.zoneChanges.splice(
          0,
          Number.POSITIVE_INFINITY,
          ...this.zoneChanges.filter(({ zone }) => zone !== deed.zone),
        );
        break;
      case 'frozen':
        this.frozen = deed;
        break;
      case 'thawed':
        this.frozen = undefined;
        break;
      case 'marker put':
        this.markers.set(deed.place, deed.path);
        break;
      case 'marker removed':
        this.markers.delete(deed.place);
        break;
      case 'probe put':
        this.probes.add(deed.place);
        break;
      case 'probe removed':
        this.probes.delete(deed.place);
        break;
      case 'hatch put':
        this.hatches.set(deed.name, deed.place);
        break;
      case 'hatch gone':
        this.hatches.delete(deed.name);
        break;
      case 'crate stored':
        this.stored.add(`${deed.place}/${deed.name}`);
        break;
      case 'crate removed':
        this.stored.delete(`${deed.place}/${deed.name}`);
        break;
      default:
        deed satisfies never;
    }
  }

  /** What was in a database before the first delivery is in its place again. */
  private forgetFirst(database: string): void {
    for (const { number, by, data } of [...this.keepsakes.values()]) {
      const at = by === 'first delivery' ? data.findIndex(one => one.database === database) : -1;
      if (at < 0) continue;
      data.splice(at, 1);
      this.forgetEmpty(number);
    }
  }

  private forgetEmpty(number: number): void {
    const one = this.keepsakes.get(number);
    if (one && one.files.length + one.data.length === 0) this.keepsakes.delete(number);
  }

  private keep({ kind, number, by }: KeptFiles | KeptData, { at, step }: JournalRecord): Keepsake {
    this.standing.keep(number, by === 'delivery' || kind === 'files kept' || kind === 'rows kept');
    this.last = Math.max(this.last, number);
    let keepsake = this.keepsakes.get(number);
    if (!keepsake) {
      keepsake = { number, by, step, at, files: [], listed: new Map(), data: [], sums: new Map() };
      this.keepsakes.set(number, keepsake);
    }
    return keepsake;
  }

  /** What the end of a step means for what came before it. */
  private close({ step, result }: JournalRecord): void {
    this.standing.end(step);
    if (step === 'tidy') {
      this.life = 'closed';
      this.keepsakes.clear();
    }
    // Where a single keepsake was restored, the rest is as it was delivered.
    const isWhole = step === 'undo' && result?.keepsake === undefined;
    if (isWhole || step === 'deliver') this.setUp.clear();
    const written = (result?.setUp ?? {}) as Record<string, string>;
    for (const [path, sha256] of Object.entries(written)) this.setUp.set(path, sha256);
    if (step === 'deliver' || step === 'configure' || step === 'undo') this.settingUp.clear();
  }
}

/** Reads the journal of a move. */
export async function ledgerOf({ folder }: { readonly folder: MoveFolder }): Promise<Ledger> {
  return new Ledger(await folder.readJournal());
}

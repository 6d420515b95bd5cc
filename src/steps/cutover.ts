import { calendarOf } from '../core/dns/cutover/calendar.js';
import type { CutoverFacts, NameFate, PlannedName, ServerSeen, ZoneView } from '../core/dns/cutover/facts.js';
import { type CutoverPlan, planCutover } from '../core/dns/cutover/plan.js';
import { hostOf } from '../core/dns/records/name.js';
import { recordLine, type ShownRecord, shownRecord } from '../core/dns/records/record.js';
import { type WrittenChange, writtenChange } from '../core/dns/zone/set-change.js';
import { type Finding, finding } from '../core/findings/findings.js';
import { type CutoverPhase, cutoverPhases } from '../core/journal.js';
import { gatherFacts } from './cutover/facts.js';
import { methodOf, openZones } from './cutover/zones.js';
import { ledgerOf } from './move/ledger.js';
import { doStep, readResult, type StepOutcome, type StepRun } from './move/step.js';

/** The changes of a zone in one phase. */
export interface PhaseChanges {
  readonly zone: string;
  readonly phase: CutoverPhase;
  readonly changes: readonly WrittenChange[];
}

/** A plan of the cutover as it is kept and shown. Times are ISO 8601, UTC. */
export interface CutoverResult {
  readonly when: string;
  /** Whether a person has named the time. */
  readonly isDated: boolean;
  readonly timeZone: string;
  readonly method: CutoverFacts['method'];
  readonly shortTtl: number;
  readonly zones: readonly {
    readonly zone: string;
    readonly source: ZoneView['source'];
    readonly place: string;
    readonly isWhole: boolean;
    readonly records: number;
    readonly serial: number | undefined;
    readonly servers: readonly ServerSeen[];
  }[];
  readonly names: readonly {
    readonly host: string;
    readonly as: PlannedName['as'];
    readonly fate: NameFate;
    readonly present: readonly ShownRecord[];
  }[];
  readonly changes: readonly PhaseChanges[];
  readonly timeline: readonly {
    readonly at: string | undefined;
    readonly what: string;
    readonly why: string;
    readonly command: string | undefined;
  }[];
  /** What else is in the zones and stays: how many records of each type. */
  readonly stays: Readonly<Record<string, number>>;
  /** The timeline as a calendar file, in the move folder. */
  readonly calendar: string;
}

const calendarFile = 'cutover.ics';

/** Plans the change in the DNS, from the zones as they are. Nothing is changed. */
export async function cutover(run: StepRun): Promise<StepOutcome<CutoverResult | undefined>> {
  const { sheet } = run.move;
  if (!sheet.dns?.['address-records']) {
    return doStep(run, 'cutover', { dns: sheet.dns }, async findings => {
      findings.add(notNamed());
      return { result: undefined, brief: {} };
    });
  }
  const kept = await planOfSwitch(run);
  if (kept) return kept;
  const zones = await openZones(run);
  const facts = await gatherFacts(run, zones);
  const seen = {
    dns: { ...sheet.dns, key: undefined },
    addresses: [sheet.old.address, sheet.new.address],
    records: zones.map(({ view }) => view.zone.records.map(recordLine)),
    servers: zones.map(({ view }) => view.servers),
    lastPass: facts.lastPass,
  };
  return doStep(run, 'cutover', seen, async findings => {
    const plan = planCutover(facts);
    findings.add(...plan.findings.map(one => (sheet.dns!.accept.includes(one.code) ? accepted(one) : one)));
    const result = resultOf(run, facts, plan);
    await run.move.folder.write(calendarFile, calendarOf(sheet.name, plan.timeline, facts.now));
    return { result, brief: { names: result.names.map(({ host, fate }) => `${host}: ${fate}`) } };
  });
}

/** The plan by which the DNS was switched: in a live move it is not made anew. */
async function planOfSwitch({ move }: StepRun): Promise<StepOutcome<CutoverResult | undefined> | undefined> {
  if ((await ledgerOf(move)).life !== 'live') return undefined;
  const kept = await readResult<CutoverResult | undefined>(move.folder, 'cutover');
  return kept && { step: 'cutover', state: 'already done', ...kept, seconds: 0 };
}

/** What a person has accepted by its code is not in the way. */
function accepted(one: Finding): Finding {
  return one.level === 'stop' ? { ...one, level: 'warn' } : one;
}

function notNamed(): Finding {
  return finding({
    level: 'note',
    code: 'records-not-named',
    place: 'dns.address-records',
    what: 'The sheet names no address records, so no plan was made',
    remedy:
      'Add dns: { address-records: { old: 192.0.2.10, new: 198.51.100.20 } } with your hosts’ addresses',
  });
}

function resultOf(run: StepRun, facts: CutoverFacts, plan: CutoverPlan): CutoverResult {
  const iso = (time: number) => new Date(time).toISOString();
  const touched = new Set(
    plan.changes.flatMap(({ prepare, switch: switched }) =>
      [...prepare, ...switched].map(({ name, type }) => `${name} ${type}`),
    ),
  );
  const stays: Record<string, number> = {};
  for (const { zone } of facts.zones) {
    for (const { name, type } of zone.records)
      if (!touched.has(`${name} ${type}`)) stays[type] = (stays[type] ?? 0) + 1;
  }
  return {
    when: iso(facts.when),
    isDated: facts.isDated,
    timeZone: facts.timeZone,
    method: methodOf(run.move),
    shortTtl: facts.shortTtl,
    zones: facts.zones.map(({ zone, source, place, isWhole, servers }) => ({
      zone: hostOf(zone.apex),
      source,
      place,
      isWhole,
      records: zone.records.length,
      serial: zone.serial,
      servers,
    })),
    names: plan.names.map(({ name, as, fate, present }) => ({
      host: hostOf(name),
      as,
      fate,
      present: present.map(shownRecord),
    })),
    changes: plan.changes.flatMap(changes =>
      cutoverPhases.flatMap(phase =>
        changes[phase].length > 0
          ? [{ zone: hostOf(changes.view.zone.apex), phase, changes: changes[phase].map(writtenChange) }]
          : [],
      ),
    ),
    timeline: plan.timeline.map(({ at, what, why, command }) => ({
      at: at === undefined ? undefined : iso(at),
      what,
      why,
      command,
    })),
    stays,
    calendar: run.move.folder.at(calendarFile),
  };
}

import { basename } from 'node:path';
import { setTimeout } from 'node:timers/promises';
import pMap from 'p-map';
import { editZoneFile } from '../../core/dns/master-file/edit.js';
import { hostOf, isWithin, nameOfHost, sameName } from '../../core/dns/records/name.js';
import { type ShownRecord, shownRecord } from '../../core/dns/records/record.js';
import { nextSerial } from '../../core/dns/zone/serial.js';
import {
  changeOf,
  composed,
  conflictsIn,
  reversed,
  type SetChange,
  sameSet,
  type WrittenChange,
  writtenChange,
} from '../../core/dns/zone/set-change.js';
import type { Zone } from '../../core/dns/zone/zone.js';
import { PartWayError } from '../../core/errors.js';
import { type Finding, finding } from '../../core/findings/findings.js';
import type { CutoverPhase } from '../../core/journal.js';
import { listed } from '../../core/text/listed.js';
import type { NamedServer } from '../../ends/dns/delegation.js';
import { askFor } from '../../ends/dns/resolver.js';
import { serverText } from '../../ends/dns/server.js';
import { sendUpdate } from '../../ends/dns/update.js';
import { includedPath, openZoneFile, writeZoneText } from '../../ends/dns/zone-file.js';
import type { CutoverResult, PhaseChanges } from '../cutover.js';
import { ledgerOf } from '../move/ledger.js';
import { noteDeed, type StepRun } from '../move/step.js';
import { plannedCutover } from './planned.js';
import { keyOf, type OpenZone, openZones } from './zones.js';

/** What became of the changes of one zone. */
export interface ChangedZone {
  readonly zone: string;
  readonly state: 'changed' | 'already so' | 'by hand';
  /** The file that was written, or the server that took the update. */
  readonly place: string | undefined;
  readonly changes: readonly WrittenChange[];
  /** Servers that do not show the change yet, by name; undefined where none could be asked. */
  readonly behind: readonly string[] | undefined;
}

/** How long servers are waited for, in milliseconds. */
const patience = 60_000;
const pause = 1000;

/**
 * Changes the zones as a phase of the plan says: all sets of a zone at once, and only while each is as the plan saw it. What
 * is so already is not changed again. Where one zone was changed meanwhile, none is.
 * @param led names that led to the new host when it was planned
 */
export async function changeZones(
  run: StepRun,
  phase: CutoverPhase,
  wanted: readonly PhaseChanges[],
  led: CutoverResult['names'] = [],
): Promise<{ zones: ChangedZone[]; findings: Finding[] }> {
  const open = await openZones(run);
  const all = wanted.map(({ zone, changes }) => ({
    zone: zoneNamed(open, zone),
    changes: changes.map(changeOf),
  }));
  const conflicts = all.flatMap(({ zone, changes }) => stateOf(zone.view.zone, changes).conflicts);
  const findings = [...conflicts.map(conflictFinding), ...strayed(open, led)];
  if (findings.length > 0) return { zones: [], findings };
  return changeAll(
    run,
    all,
    zone => changes =>
      noteDeed(run, 'cutover', {
        kind: 'zone changing',
        zone: hostOf(zone.view.zone.apex),
        phase,
        changes: changes.map(writtenChange),
      }),
  );
}

/**
 * Takes back everything that the cutover has changed in the zones, from the first phase on: other edits stay. Where
 * somebody has changed one of these sets meanwhile, nothing is taken back.
 */
export async function restoreZones(run: StepRun): Promise<{ zones: ChangedZone[]; findings: Finding[] }> {
  const { zoneChanges } = await ledgerOf(run.move);
  const names = [...new Set(zoneChanges.map(({ zone }) => zone))];
  if (names.length === 0) return restoreByHand(run);
  const open = await openZones(run);
  const all = names.map(name => {
    const zone = zoneNamed(open, name);
    const deeds = zoneChanges.filter(one => one.zone === name).map(({ changes }) => changes.map(changeOf));
    return { zone, changes: reversed(composed(carriedOut(zone.view.zone, deeds).flat())) };
  });
  const conflicts = all.flatMap(({ zone, changes }) => stateOf(zone.view.zone, changes).conflicts);
  if (conflicts.length > 0) return { zones: [], findings: conflicts.map(conflictFinding) };
  const outcome = await changeAll(run, all, () => async () => {});
  for (const { zone, state } of outcome.zones)
    if (state !== 'by hand') await noteDeed(run, 'cutover', { kind: 'zone restored', zone });
  return outcome;
}

/** The planned changes backwards, where a person makes them. */
async function restoreByHand(run: StepRun): Promise<{ zones: ChangedZone[]; findings: Finding[] }> {
  const plan = await plannedCutover(run, 'Going back');
  if (plan.method !== 'by hand') return { zones: [], findings: [] };
  const open = await openZones(run);
  const names = [...new Set(plan.changes.map(({ zone }) => zone))];
  const all = names.map(name => {
    const done = plan.changes.filter(({ zone, phase }) => zone === name && phase !== 'raise');
    const changes = reversed(composed(done.flatMap(one => one.changes.map(changeOf))));
    return { zone: zoneNamed(open, name), changes };
  });
  return changeAll(run, all, () => async () => {});
}

/** Without the last deed where it was noted and never carried out: a run was killed before it was sent. */
function carriedOut(zone: Zone, deeds: readonly SetChange[][]): readonly SetChange[][] {
  const last = deeds.at(-1);
  const isOut = last?.every(({ name, type, after }) => sameSet(zone.set(name, type), after));
  return last && !isOut && conflictsIn(zone, last).length === 0 ? deeds.slice(0, -1) : deeds;
}

/** Names that led to the new host when the plan was made, and no longer do. */
function strayed(zones: readonly OpenZone[], names: CutoverResult['names']): Finding[] {
  return names.flatMap(({ host, present }) => {
    const name = nameOfHost(host);
    const zone = zones.find(({ view }) => isWithin(name, view.zone.apex))?.view.zone;
    const lines = (records: readonly ShownRecord[]) =>
      records
        .map(({ type, value }) => `${type} ${value}`)
        .sort()
        .join();
    const now = ['A', 'AAAA', 'CNAME'].flatMap(type => zone?.answer(name, type) ?? []);
    if (lines([...new Set(now)].map(shownRecord)) === lines(present)) return [];
    return conflictFinding({ name, type: 'address', before: [], after: [] });
  });
}

function zoneNamed(zones: readonly OpenZone[], name: string): OpenZone {
  const found = zones.find(({ view }) => sameName(view.zone.apex, nameOfHost(name)));
  if (found) return found;
  throw new PartWayError({
    doing: `Changing the zone ${name}`,
    cause: 'it cannot be read any more',
    remedy: 'Correct the sheet’s dns section, then run the command again',
  });
}

/** Which sets are to be changed, which are so already, and which somebody else has changed. */
function stateOf(zone: Zone, changes: readonly SetChange[]): { open: SetChange[]; conflicts: SetChange[] } {
  const open = changes.filter(
    ({ name, type, after }) => !sameSet(zone.set(name, type), after, { ttl: true }),
  );
  const conflicts = conflictsIn(zone, open).filter(
    ({ name, type, after }) => !sameSet(zone.set(name, type), after),
  );
  return { open, conflicts };
}

function conflictFinding({ name, type }: SetChange): Finding {
  return finding({
    level: 'stop',
    code: 'dns-changed-meanwhile',
    place: hostOf(name),
    what: `Somebody has changed its ${type} records since they were seen, so its zone was left as it is`,
    remedy: 'Look at the zone, then plan again: able-porter cutover',
  });
}

async function changeAll(
  run: StepRun,
  all: readonly { zone: OpenZone; changes: readonly SetChange[] }[],
  note: (zone: OpenZone) => (changes: readonly SetChange[]) => Promise<void>,
): Promise<{ zones: ChangedZone[]; findings: Finding[] }> {
  const zones: ChangedZone[] = [];
  const findings: Finding[] = [];
  for (const { zone, changes } of all) {
    const name = hostOf(zone.view.zone.apex);
    const { open } = stateOf(zone.view.zone, changes);
    const canChange = zone.file !== undefined || zone.server !== undefined;
    const state = open.length === 0 ? 'already so' : canChange ? 'changed' : 'by hand';
    if (state === 'changed') {
      await note(zone)(changes);
      const conflict = await changeZone(run, zone, open);
      if (conflict) return { zones, findings: open.map(conflictFinding) };
    }
    const behind = state === 'by hand' ? undefined : await waitForServers(run, zone, changes);
    if (behind && behind.length > 0) findings.push(behindFinding(name, behind, zone.file !== undefined));
    const place = zone.file ?? (zone.server && `dns://${serverText(zone.server)}`);
    zones.push({ zone: name, state, place, changes: changes.map(writtenChange), behind });
  }
  return { zones, findings };
}

function behindFinding(zone: string, behind: readonly string[], isFile: boolean): Finding {
  return finding({
    level: 'warn',
    code: 'dns-server-behind',
    place: zone,
    what: `${listed(behind)} ${behind.length === 1 ? 'does' : 'do'} not answer with the change yet`,
    remedy: isFile
      ? 'Let the server load its zone file again; then watch: able-porter cutover watch'
      : 'Find out why the zone is not copied; then watch: able-porter cutover watch',
  });
}

/**
 * Makes a change that is taken away again soon, and waits until every server shows it.
 * @throws PartWayError where somebody has changed the set meanwhile
 */
export async function changeForNow(
  run: StepRun,
  zone: OpenZone,
  changes: readonly SetChange[],
): Promise<void> {
  if (!(await changeZone(run, zone, changes))) {
    await waitForServers(run, zone, changes);
    return;
  }
  throw new PartWayError({
    doing: `Changing the zone ${hostOf(zone.view.zone.apex)}`,
    cause: 'somebody has changed the same records at this moment',
    remedy: 'Run the command again',
  });
}

/** @returns whether a set was changed by somebody at the last moment, so that nothing was done */
async function changeZone(run: StepRun, zone: OpenZone, changes: readonly SetChange[]): Promise<boolean> {
  const { apex } = zone.view.zone;
  const doing = `Changing the zone ${hostOf(apex)}`;
  if (zone.file !== undefined) {
    const file = await openZoneFile(zone.file);
    const serial = nextSerial(zone.view.zone.serial!, Date.now());
    let texts: ReturnType<typeof editZoneFile>;
    try {
      texts = editZoneFile(file, changes, serial);
    } catch (error) {
      throw new PartWayError({
        doing,
        cause: (error as Error).message,
        remedy: 'Nothing was changed; change the lines by hand as the plan lists them',
      });
    }
    for (const [name, text] of texts) {
      const path = includedPath(zone.file, name);
      const kept = `cutover/kept/${zone.view.zone.serial}-${basename(path)}`;
      await run.move.folder.write(kept, Buffer.from(file.texts.get(name)!, 'latin1'));
      await writeZoneText(path, text);
    }
    return false;
  }
  try {
    return (
      (await sendUpdate(zone.server!, apex, changes, keyOf(run.move), run.signal)) === 'changed meanwhile'
    );
  } catch (error) {
    run.signal.throwIfAborted();
    throw new PartWayError({
      doing: `${doing} at ${serverText(zone.server!)}`,
      cause: (error as Error).message,
      remedy: 'Run the command again: it sees whether the change was made, and makes it once',
    });
  }
}

/** Waits until every server that answers shows the changes. @returns those that do not, or undefined where none answers */
async function waitForServers(
  run: StepRun,
  { servers, file }: OpenZone,
  changes: readonly SetChange[],
): Promise<string[] | undefined> {
  if (servers.length === 0) return undefined;
  // A zone file has to be loaded first, by a person.
  const until = Date.now() + (file === undefined ? patience : 0);
  for (;;) {
    const behind = await serversBehind(run, servers, changes);
    if (behind.length === 0 || Date.now() > until) return behind;
    run.events({
      type: 'progress',
      what: behind[0]!,
      done: servers.length - behind.length,
      of: servers.length,
      unit: 'servers',
    });
    await setTimeout(pause, undefined, { signal: run.signal });
  }
}

async function serversBehind(
  run: StepRun,
  servers: readonly NamedServer[],
  changes: readonly SetChange[],
): Promise<string[]> {
  const behind = await pMap(servers, async ({ name, server }) => {
    try {
      for (const change of changes) {
        const { answers } = await askFor(server, change.name, change.type, run.signal);
        const own = answers.filter(one => one.type === change.type && sameName(one.name, change.name));
        if (!sameSet(own, change.after, { ttl: true })) return name;
      }
      return undefined;
    } catch {
      run.signal.throwIfAborted();
      return name;
    }
  });
  return behind.flatMap(one => one ?? []);
}

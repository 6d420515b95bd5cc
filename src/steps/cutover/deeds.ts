import { UsageError } from '../../core/errors.js';
import type { Finding } from '../../core/findings/findings.js';
import type { CutoverPhase } from '../../core/journal.js';
import { ledgerOf } from '../move/ledger.js';
import { refuseClosed } from '../move/life.js';
import { noteDeed, outcomeOf, type StepOutcome, type StepRun } from '../move/step.js';
import { type Placed, putRedirects, takeBackRedirects } from '../redirects/placing.js';
import { staysThere } from '../redirects/set.js';
import { surveyCertificate } from '../survey/web.js';
import { getCertificate, type ReadyCertificate } from './certificate.js';
import { type ChangedZone, changeZones, restoreZones } from './change-zones.js';
import { type Freeze, freezeOldSite, thawOldSite } from './freeze.js';
import { markerPath, putMarkers } from './markers.js';
import { changesOf, plannedCutover } from './planned.js';
import { type WatchOptions, type WatchRound, watchCutover } from './watch.js';

/** What a phase of the cutover has done. */
export interface PhaseResult {
  readonly phase: CutoverPhase | 'back';
  readonly zones: readonly ChangedZone[];
  /** The path of the markers at both ends, below the addresses. */
  readonly marker: string | undefined;
  /** Redirects that were put in place or taken back with it. */
  readonly redirects: Placed | undefined;
  readonly certificate?: ReadyCertificate | undefined;
  readonly life: 'open' | 'live';
}

/**
 * Lowers the TTLs, creates names that do not exist yet, and puts a marker at each end.
 * @param certificate whether a certificate for the new host is fetched too
 */
export function prepare(run: StepRun, { certificate = false } = {}): Promise<StepOutcome<PhaseResult>> {
  return outcomeOf('cutover', async () => {
    await refuseClosed(run.move, 'Preparing the cutover');
    const plan = await plannedCutover(run, 'Preparing the cutover');
    const markers = await putMarkers(run);
    const { zones, findings } = await changeZones(run, 'prepare', changesOf(plan, 'prepare'));
    const ready = certificate ? await getCertificate(run) : undefined;
    const readiness = ready ? [] : await certificateFindings(run);
    const result = { ...(await resultOf(run, 'prepare', zones)), certificate: ready };
    return { result, findings: [...markers, ...findings, ...readiness] };
  });
}

/** Whether the new host shows a certificate that browsers accept, as far as it can be asked over HTTPS. */
async function certificateFindings(run: StepRun): Promise<readonly Finding[]> {
  const { sheet, newAddress } = run.move;
  const reach = sheet.new['reach-https'] ?? sheet.new.reach;
  // Before the switch the name itself leads elsewhere.
  return reach === undefined ? [] : (await surveyCertificate(run, newAddress, reach, 'new')).findings;
}

/**
 * Switches: one update of each zone; where the site gets a new name, the redirects at the old site too. The move is live
 * then, unless the records are changed by hand.
 */
export function switchOver(run: StepRun): Promise<StepOutcome<PhaseResult>> {
  return outcomeOf('cutover', async () => {
    await refuseClosed(run.move, 'Switching the DNS');
    const plan = await plannedCutover(run, 'Switching the DNS');
    // Names that were to be created before come with it where nobody has prepared.
    const created = changesOf(plan, 'prepare').map(one => ({
      ...one,
      changes: one.changes.filter(({ before }) => before.length === 0),
    }));
    const wanted = [...created, ...changesOf(plan, 'switch')].filter(({ changes }) => changes.length > 0);
    const led = plan.names.filter(({ fate }) => fate === 'leads there already');
    const { zones, findings } = await changeZones(run, 'switch', joined(wanted), led);
    const isSwitched =
      findings.every(({ level }) => level !== 'stop') && zones.every(({ state }) => state !== 'by hand');
    let redirects: Placed | undefined;
    const more: Finding[] = [];
    if (isSwitched && !staysThere(run.move) && (await arePlanned(run))) {
      const { placed, findings: found } = await putRedirects(run);
      redirects = placed;
      more.push(...found);
    }
    if (isSwitched) await goLive(run);
    return {
      result: { ...(await resultOf(run, 'switch', zones)), redirects },
      findings: [...findings, ...more],
    };
  });
}

/** One entry for each zone. */
function joined(all: ReturnType<typeof changesOf>): ReturnType<typeof changesOf> {
  const zones = new Map<string, (typeof all)[number]>();
  for (const one of all) {
    const before = zones.get(one.zone);
    zones.set(one.zone, before ? { ...before, changes: [...before.changes, ...one.changes] } : one);
  }
  return [...zones.values()];
}

async function arePlanned({ move }: StepRun): Promise<boolean> {
  return (await ledgerOf(move)).stateOf('redirects').state === 'done';
}

/** Usual TTLs again. */
export function raise(run: StepRun): Promise<StepOutcome<PhaseResult>> {
  return outcomeOf('cutover', async () => {
    const plan = await plannedCutover(run, 'Raising the TTLs');
    const { life } = await ledgerOf(run.move);
    if (life === 'open') {
      throw new UsageError({
        doing: 'Raising the TTLs',
        cause: 'the DNS is not switched yet',
        remedy: 'Switch first: able-porter cutover switch',
      });
    }
    const { zones, findings } = await changeZones(run, 'raise', changesOf(plan, 'raise'));
    return { result: await resultOf(run, 'raise', zones), findings };
  });
}

/** Takes back what the cutover has changed in the zones, and the redirects; the move is open again. */
export function goBack(run: StepRun): Promise<StepOutcome<PhaseResult>> {
  return outcomeOf('cutover', async () => {
    await refuseClosed(run.move, 'Switching the DNS back');
    const { zones, findings } = await restoreZones(run);
    const isBack =
      findings.every(({ level }) => level !== 'stop') && zones.every(({ state }) => state !== 'by hand');
    const ledger = await ledgerOf(run.move);
    let redirects: Placed | undefined;
    if (isBack && ledger.redirects !== undefined) ({ placed: redirects } = await takeBackRedirects(run));
    if (isBack && ledger.life === 'live') await noteDeed(run, 'cutover', { kind: 'went back' });
    if (isBack) await thawOldSite(run);
    return { result: { ...(await resultOf(run, 'back', zones)), redirects }, findings };
  });
}

async function goLive(run: StepRun): Promise<void> {
  if ((await ledgerOf(run.move)).life !== 'live') await noteDeed(run, 'cutover', { kind: 'went live' });
}

async function resultOf(
  { move }: StepRun,
  phase: PhaseResult['phase'],
  zones: readonly ChangedZone[],
): Promise<PhaseResult> {
  const { life } = await ledgerOf(move);
  return {
    phase,
    zones,
    marker: await markerPath(move),
    redirects: undefined,
    life: life === 'live' ? 'live' : 'open',
  };
}

/** Closes the old site for what writes, for some minutes. */
export function freeze(run: StepRun, minutes: number): Promise<StepOutcome<Freeze | undefined>> {
  return outcomeOf('cutover', async () => {
    await refuseClosed(run.move, 'Freezing the old site');
    const { freeze: result, findings } = await freezeOldSite(run, minutes);
    return { result, findings };
  });
}

/** Opens the old site again. */
export function thaw(run: StepRun): Promise<StepOutcome<{ readonly thawed: boolean }>> {
  return outcomeOf('cutover', async () => ({ result: { thawed: await thawOldSite(run) }, findings: [] }));
}

/** Watches until all follow, or the time is over. */
export function watch(run: StepRun, options: WatchOptions): Promise<StepOutcome<WatchRound>> {
  return outcomeOf('cutover', () => watchCutover(run, options));
}

/**
 * Notes that somebody has switched the DNS by hand, or has switched it back: the move is live, or open again.
 * @throws UsageError where the move is closed
 */
export async function noteByHand(run: StepRun, action: 'switch' | 'back'): Promise<'live' | 'open'> {
  await refuseClosed(run.move, action === 'switch' ? 'Switching the DNS' : 'Switching the DNS back');
  await noteDeed(run, 'cutover', { kind: action === 'switch' ? 'went live' : 'went back' });
  return action === 'switch' ? 'live' : 'open';
}

import { rm, writeFile } from 'node:fs/promises';
import { byWeight, type Finding } from '../../core/findings/findings.js';
import type { PageComparison } from '../../core/pages/compare/compare-pages.js';
import { wordpress } from '../../core/site/families/wordpress.js';
import { readDump } from '../../ends/database/dump/reader.js';
import { movedDump } from '../../ends/move-folder/crate.js';
import { comparePagesOf } from '../check/pages/compare.js';
import { openSites } from '../check/site/both-sites.js';
import { oldFigures } from '../check/site/figures.js';
import { check } from '../check.js';
import { prepare, switchOver, watch } from '../cutover/deeds.js';
import type { WatchRound } from '../cutover/watch.js';
import { cutover } from '../cutover.js';
import { deliver } from '../deliver.js';
import type { EventSink } from '../move/events.js';
import { openMove } from '../move/open.js';
import { unlimitedRate } from '../move/rate-limit.js';
import type { StepOutcome, StepRun } from '../move/step.js';
import { pack } from '../pack.js';
import { put, takeBack, test } from '../redirects/deeds.js';
import { redirects } from '../redirects.js';
import { rewrite } from '../rewrite.js';
import { survey } from '../survey.js';
import { demoFolder } from './folder.js';
import { DemoHosts, type DemoWay, newAddress, oldPlace } from './hosts.js';
import { type DemoStored, storeAndVerify } from './store.js';

/** A fault put into the new site on purpose, and what check said of it. */
interface DemoFault {
  readonly what: string;
  readonly found: Finding | undefined;
  readonly page: PageComparison | undefined;
}

export interface DemoOutcome {
  readonly folder: string;
  readonly kept: boolean;
  /** What survey found at first, before the sheet was corrected. */
  readonly firstFindings: readonly Finding[];
  readonly faults: readonly DemoFault[];
  readonly outcomes: {
    readonly survey: Awaited<ReturnType<typeof survey>>;
    readonly pack: Awaited<ReturnType<typeof pack>>;
    readonly rewrite: Awaited<ReturnType<typeof rewrite>>;
    readonly deliver: Awaited<ReturnType<typeof deliver>>;
    readonly check: Awaited<ReturnType<typeof check>>;
    readonly redirects: Awaited<ReturnType<typeof redirects>>;
    readonly cutover: Awaited<ReturnType<typeof cutover>>;
  };
  /** The switch at the demo's DNS server, and the watch until its resolver has followed. */
  readonly switched: {
    readonly prepare: Awaited<ReturnType<typeof prepare>>;
    readonly switch: Awaited<ReturnType<typeof switchOver>>;
    /** The first round of the watch, and the last. */
    readonly first: WatchRound;
    readonly watch: Awaited<ReturnType<typeof watch>>;
  };
  /** The crate at a store, where the demo has one. */
  readonly store: DemoStored | undefined;
  /** The redirects put in place at the old host, tested, and taken back. */
  readonly redirects: {
    readonly put: Awaited<ReturnType<typeof put>>;
    readonly test: Awaited<ReturnType<typeof test>>;
    readonly takenBack: Awaited<ReturnType<typeof takeBack>>;
  };
}

/** What a demo is given. */
export interface DemoWish extends DemoWay {
  /** A folder to create it in and keep it in; undefined for a temporary one. */
  readonly keep: string | undefined;
  readonly events: EventSink;
  readonly signal: AbortSignal;
}

/**
 * Creates the Saltmarsh Rowing Club's site on an old host, and moves it to a new one: with faults put in on purpose
 * to show them being found, and then right.
 * @param whenDone is given the result while both sites are still being served
 */
export async function demo(
  wish: DemoWish,
  whenDone: (outcome: DemoOutcome) => Promise<void>,
): Promise<DemoOutcome> {
  const { keep, signal } = wish;
  const folder = await demoFolder(keep, ['move', 'new-host', 'old-host', 'store']);
  const hosts = new DemoHosts(folder.path, wish);
  const runs: StepRun[] = [];
  let lock: { release(): Promise<void> } | undefined;
  const open = async (also: readonly string[]): Promise<StepRun> => {
    const sheet = await hosts.writeMove(also);
    const run = { move: await openMove(sheet, {}), events: wish.events, signal, rate: unlimitedRate };
    runs.push(run);
    return run;
  };
  try {
    await hosts.open(signal);
    const first = await survey(await open([]));
    const run = await open([oldPlace.temporary]);
    // Nobody else works on the move until all of it is done.
    lock = await run.move.folder.lock();
    const outcomes = {
      survey: await survey(run),
      pack: await pack(run),
      rewrite: await rewrite(run),
      deliver: await deliver(run),
    };
    const store = wish.stores ? await storeAndVerify(run) : undefined;
    const faults = await showFaults(run, hosts);
    await hosts.serveDelivered(signal);
    const checked = await check(run);
    const planned = await redirects(run, { accept: archiveHomes });
    const tried = { put: await put(run), test: await test(run), takenBack: await takeBack(run) };
    const plan = await cutover(run);
    const outcome: DemoOutcome = {
      folder: folder.path,
      kept: keep !== undefined,
      firstFindings: first.findings,
      faults,
      outcomes: {
        ...outcomes,
        check: checked,
        redirects: planned,
        cutover: plan,
      },
      store,
      redirects: tried,
      switched: await switchAndWatch(run),
    };
    await lock.release();
    lock = undefined;
    await whenDone(outcome);
    return outcome;
  } finally {
    await lock?.release();
    for (const { move } of runs) await move.accounts.close();
    await hosts.close();
    await folder.remove();
  }
}

/** Switches, and watches until the resolver has followed, whose clock is fast. */
async function switchAndWatch(run: StepRun): Promise<DemoOutcome['switched']> {
  const prepared = await prepare(run, { certificate: true });
  const rounds: WatchRound[] = [];
  const show = (round: WatchRound) => void rounds.push(round);
  const options = { limit: 60, every: 0.5, here: false, show };
  // The resolver knows the old address, as those of visitors do.
  await watch(run, { ...options, limit: 0 });
  const switched = await switchOver(run);
  const watched = await watch(run, options);
  return { prepare: prepared, switch: switched, first: rounds[1]!, watch: watched };
}

/** What an administrator decides about the pages that were made by hand. */
const archiveHomes = { score: 0.7, chosen: new Map([['/archive/minutes-1987.html', '410']]) };

const quiet: EventSink = () => {};

/** What goes wrong most often at a new host, done on purpose and looked at with the eyes of check. */
async function showFaults(run: StepRun, hosts: DemoHosts): Promise<DemoFault[]> {
  const { newDatabase: database } = hosts;
  const faults: DemoFault[] = [];
  const look = async (what: string) => {
    const sites = openSites(run, wordpress);
    const manifest = await run.move.crate.manifest();
    const quietly = { ...run, events: quiet };
    const { pages, findings } = await comparePagesOf(quietly, sites, oldFigures(run, manifest), what);
    await Promise.all([sites.old.close(), sites.new.close()]);
    faults.push({ what, found: byWeight(findings)[0], page: pages[0] });
  };
  const right = database.credentials;
  database.credentials = { ...right, password: 'another' };
  await look('The password in the configuration is not the database’s');
  database.credentials = right;
  await database.load(hosts.oldDump);
  await look('The dump was loaded as it was taken, with the old table prefix');
  const hasty = await withNewPrefixOnly(run.move);
  await database.load(hasty);
  await rm(hasty);
  await look('The prefix is right, but the addresses were not rewritten');
  return faults;
}

/** The old dump with its tables renamed and nothing else, as a hasty hand would do it. */
async function withNewPrefixOnly({ bench, crate, folder }: StepRun['move']): Promise<string> {
  const chunks: Buffer[] = [];
  await readDump(
    bench,
    crate.at(movedDump),
    { push: chunk => chunks.push(Buffer.from(chunk)), finish: () => {} },
    { signal: new AbortController().signal },
  );
  const file = folder.at('hasty.sql');
  await writeFile(
    file,
    Buffer.concat(chunks).toString('latin1').replaceAll(newAddress, oldPlace.address),
    'latin1',
  );
  return file;
}

/** For the terminal: whether everything that the demo set out to show was seen. */
export function demoPassed({ faults, outcomes, redirects: placed, switched }: DemoOutcome): boolean {
  const done = (Object.values(outcomes) as StepOutcome<unknown>[]).every(({ state }) => state !== 'stopped');
  const pages = outcomes.check.result.pages;
  return (
    done &&
    placed.test.state === 'done' &&
    placed.takenBack.result.changed &&
    switched.prepare.result.certificate !== undefined &&
    switched.switch.result.life === 'live' &&
    switched.watch.state === 'done' &&
    faults.every(({ found }) => found?.level === 'stop') &&
    pages.every(({ verdict }) => verdict === 'same')
  );
}

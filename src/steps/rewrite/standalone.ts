import { stat } from 'node:fs/promises';
import { readDatabaseUrl } from '../../core/database/place.js';
import type { Left } from '../../core/rewrite/report/left-list.js';
import type { EventSink } from '../move/events.js';
import { FindingLog } from '../move/step.js';
import { rewriteFindings } from './findings.js';
import { freeName } from './free-name.js';
import { rewriteStandaloneDump } from './standalone-dump.js';
import {
  planOf,
  type StandaloneDone,
  type StandaloneOptions,
  type StandalonePlan,
  shown,
  wrong,
} from './standalone-options.js';

/** What is asked before something is changed where it is. Each comes back only when it may be. */
export interface StandaloneQuestions {
  inPlace(what: string): Promise<void>;
  keyless(tables: readonly string[]): Promise<void>;
}

export interface StandaloneOutcome extends StandaloneDone {
  readonly input: string;
  readonly dryRun: boolean;
  /** What was left one by one, where that was asked for. */
  readonly left: readonly Left[] | undefined;
  readonly leftMore: number;
  readonly seconds: number;
}

/**
 * Rewrites something without a move.
 * @throws UsageError when the wishes do not fit together
 */
export async function rewriteStandalone(
  wish: StandaloneOptions,
  ask: StandaloneQuestions,
  events: EventSink,
  signal: AbortSignal,
): Promise<StandaloneOutcome> {
  const plan = planOf(wish);
  const work = await workOf(plan, ask);
  const began = performance.now();
  const done = await work(events, signal);
  const seconds = Math.round(performance.now() - began) / 1000;
  const log = new FindingLog(events);
  log.add(...rewriteFindings(done.summary), ...done.findings);
  return {
    ...done,
    findings: log.all,
    input: shown(wish.input),
    dryRun: wish.dryRun,
    left: plan.left?.list,
    leftMore: plan.left?.more ?? 0,
    seconds,
  };
}

/** Finds out what the input is, and asks what has to be asked. */
async function workOf(
  plan: StandalonePlan,
  ask: StandaloneQuestions,
): Promise<(events: EventSink, signal: AbortSignal) => Promise<StandaloneDone>> {
  const { wish } = plan;
  const { input } = wish;
  if (input.startsWith('mysql:')) {
    const place = readDatabaseUrl(input);
    if (!place?.name || !place.user)
      throw wrong(wish, 'it is no mysql://user@host:port/name', 'Name the account and the database');
    if (!wish.dryRun) await ask.inPlace(`the rows of the database ${place.name} at ${place.host}`);
    const at = { ...place, password: place.password || (wish.password ?? '') };
    const keep = freeName(`${place.name.replace(/[^\w.-]/g, '_')}.before-rewriting`, '.sql');
    // Loaded only where it is needed: a dump is rewritten without a driver.
    const { rewriteDatabase } = await import('./standalone-database.js');
    const job = { place: at, keepFile: keep, askKeyless: ask.keyless };
    return (events, signal) => rewriteDatabase(plan, job, events, signal);
  }
  const isFolder = await stat(input).then(
    found => found.isDirectory(),
    () => false,
  );
  if (!isFolder) return (events, signal) => rewriteStandaloneDump(plan, events, signal);
  if (!wish.dryRun) await ask.inPlace(`the text files in ${input}`);
  const { rewriteFolder } = await import('./standalone-folder.js');
  return (events, signal) => rewriteFolder(plan, events, signal);
}

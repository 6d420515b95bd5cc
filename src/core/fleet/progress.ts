import { array, number, object, string } from 'yup';
import type { SiteProgress } from './outcome.js';

const count = number().strict().integer().min(0).required();
const text = string().strict().max(10_000);

const progress = object({
  site: text.required(),
  state: text.oneOf(['waiting', 'running', 'ended', 'done before'] as const).required(),
  step: text,
  part: number().strict().min(0).max(1),
  doing: text,
  worker: text,
  since: number().strict(),
  outcome: object({
    site: text.required(),
    state: text.oneOf(['done', 'stopped', 'failed', 'interrupted'] as const).required(),
    step: text,
    why: text,
    findings: object({ stop: count, warn: count, note: count }).noUnknown().required(),
    seconds: number().strict().min(0).required(),
  })
    .noUnknown()
    .default(undefined),
}).noUnknown();

const queued = object({
  run: text.matches(/^[\w-]+$/).required(),
  site: text.required(),
  command: array(text.required()).required(),
  hosts: array(text.required()).required(),
  digest: text.required(),
})
  .noUnknown()
  .required();

/** What a worker has noted of a site; undefined for what none would note. */
export function readProgress(noted: string | undefined, site: string): SiteProgress | undefined {
  try {
    const read = progress.validateSync(JSON.parse(noted ?? 'null'), { strict: true }) as SiteProgress;
    const isEnded = read.state === 'ended';
    return read.site === site && isEnded === (read.outcome !== undefined) ? read : undefined;
  } catch {
    return undefined;
  }
}

/** Whether something from a queue is a site that is to be worked on. */
export function isQueuedSite(given: unknown): boolean {
  return queued.isValidSync(given, { strict: true });
}

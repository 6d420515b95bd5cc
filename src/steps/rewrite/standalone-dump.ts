import { rename, rm, stat } from 'node:fs/promises';
import { basename, dirname, join, resolve } from 'node:path';
import { knownServer } from '../../core/database/known-servers.js';
import { type Finding, finding } from '../../core/findings/findings.js';
import { showable } from '../../core/text/display.js';
import { parseSize, sizeText } from '../../core/text/sizes.js';
import { LocalFiles } from '../../ends/files/local.js';
import { whileDoing } from '../../ends/system-errors.js';
import type { EventSink } from '../move/events.js';
import { leftOutFindings } from '../move/left-out.js';
import { type DumpDone, rewriteDump } from './dump.js';
import { PartsFolder } from './split-dump.js';
import {
  type StandaloneDone,
  type StandaloneOptions,
  type StandalonePlan,
  wrong,
} from './standalone-options.js';

/**
 * Rewrites a dump without a move: into another file, or into pieces for a panel.
 * @throws UsageError when the wishes do not fit together
 */
export async function rewriteStandaloneDump(
  plan: StandalonePlan,
  events: EventSink,
  signal: AbortSignal,
): Promise<StandaloneDone> {
  const { wish, terms, left } = plan;
  refuseWrongOutput(wish);
  const { input, out } = wish;
  const size = input === '-' ? 0 : (await whileDoing(`Reading the dump ${input}`, () => stat(input))).size;
  const sizes = (text: string | undefined, option: string) =>
    text === undefined ? undefined : parseSize(text, option);
  const limit = sizes(wish.parts, '--parts');
  const unfinished = join(dirname(resolve(out ?? '.')), `.${basename(out ?? '')}.partial`);
  const parts =
    limit === undefined || out === undefined
      ? undefined
      : new PartsFolder(plan.bench, new LocalFiles(unfinished), nameOf(input), limit);
  if (parts) await rm(unfinished, { recursive: true, force: true });
  try {
    const done = await rewriteDump(
      {
        bench: plan.bench,
        from: input,
        to: parts ?? out,
        terms,
        left,
        server: wish.for === undefined ? undefined : knownServer(wish.for),
        size,
        checksum: false,
        unpackedLimit: sizes(wish.unpackedLimit, '--unpacked-limit'),
      },
      events,
      signal,
    );
    const findings = [
      ...fittingFindings(done, wish),
      ...prefixFindings(done, wish),
      ...(await leftOutFindings(input, done.leftOut)),
    ];
    if (!parts || out === undefined) return { summary: done.summary, findings, wrote: out ?? '' };
    await parts.writePage(
      wish.parts!,
      'When all are in, open the site and look whether its pages are there.',
    );
    await whileDoing(`Writing ${out}`, async () => {
      await rm(out, { recursive: true, force: true });
      await rename(unfinished, out);
    });
    const { laid, largest } = parts;
    const wrote = `${laid.length} ${laid.length === 1 ? 'piece' : 'pieces'} of at most ${sizeText(largest)} into ${out}; READ-ME-FIRST.txt there says how to load them`;
    return { summary: done.summary, findings: [...findings, ...parts.findings(out, wish.parts!)], wrote };
  } finally {
    if (parts) await rm(unfinished, { recursive: true, force: true });
  }
}

function refuseWrongOutput(wish: StandaloneOptions): void {
  const { input, out, dryRun, parts } = wish;
  if ((out === undefined) !== dryRun) {
    throw wrong(
      wish,
      dryRun ? '--dry-run and --out were both given' : 'no --out was given',
      'Give --out FILE, or --dry-run to count only',
    );
  }
  if (out !== undefined && out !== '-' && resolve(out) === resolve(input))
    throw wrong(wish, 'input and output are the same file', 'Give the new dump another name');
  if (parts !== undefined && out === '-')
    throw wrong(wish, 'pieces cannot go to standard output', 'Name a folder with --out');
}

/** The name that pieces of a dump begin with. */
function nameOf(input: string): string {
  return input === '-' ? 'dump' : basename(input).replace(/(?:\.sql)?(?:\.(?:gz|bz2|zip))?$/i, '');
}

/** A prefix that no table has is mistyped. */
function prefixFindings({ tables }: DumpDone, { input, prefixFrom }: StandaloneOptions): Finding[] {
  if (prefixFrom === undefined || tables.length === 0) return [];
  if (tables.some(({ table }) => table.startsWith(prefixFrom))) return [];
  return [
    finding({
      level: 'warn',
      code: 'prefix-not-found',
      place: input,
      what: `No table begins with "${prefixFrom}", so no name was changed; the first is ${showable(tables[0]!.table)}`,
      remedy: 'Give the prefix of the tables as --prefix-from',
    }),
  ];
}

/** What was changed in the dump so that the server takes it. */
function fittingFindings({ fitted, tooLong }: DumpDone, wish: StandaloneOptions): Finding[] {
  const server = wish.for!;
  const findings: Finding[] = [];
  if (fitted.size > 0) {
    findings.push(
      finding({
        level: 'note',
        code: 'dump-fitted',
        place: server,
        what: [...fitted].map(([what, times]) => `${what}${times > 1 ? ` (${times} times)` : ''}`).join('; '),
        remedy: 'Nothing needs to be done, unless a program or view needs the account that had defined it',
      }),
    );
  }
  for (const [table, bytes] of tooLong) {
    findings.push(
      finding({
        level: 'warn',
        code: 'row-too-long',
        place: table,
        what: `A statement of ${sizeText(bytes)} is longer than ${server} accepts by default, because a single row is that long`,
        remedy: 'Raise max_allowed_packet at the server, or ask the host to',
      }),
    );
  }
  return findings;
}

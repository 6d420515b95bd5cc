import type { ByteString } from '../../core/bytes.js';
import { type DatabasePlace, readDatabaseUrl, shownDatabase } from '../../core/database/place.js';
import { DamageError, UsageError } from '../../core/errors.js';
import { Workbench } from '../../core/kernels/workbench.js';
import { DumpStatements } from '../../core/sql/statements.js';
import { readDump } from '../../ends/database/dump/reader.js';
import { LiveRows } from '../../ends/database/live/live-rows.js';
import type { EventSink } from '../move/events.js';

/** The result of putting rows back. */
export interface RowsPutBack {
  readonly place: string;
  /** Statements that put something back. */
  readonly putBack: number;
  /** Statements whose row is gone, restored already, or changed since. */
  readonly notThere: number;
}

/**
 * The database that is named for putting rows back.
 * @throws UsageError where one of the two is missing, or it names no database
 */
export function databaseAt(
  kept: string | undefined,
  url: string | undefined,
  password: string | undefined,
): DatabasePlace {
  const place = url === undefined ? undefined : readDatabaseUrl(url);
  if (kept !== undefined && place?.name && place.user)
    return { ...place, password: place.password || (password ?? '') };
  throw new UsageError({
    doing: 'Restoring rows',
    cause:
      kept === undefined
        ? 'no file of kept rows is named'
        : '--database names no mysql://user@host:port/name',
    remedy: 'Name both: able-porter undo site.before-rewriting.sql --database mysql://user@host/site',
  });
}

/** Bytes of a statement; those that put rows back are never cut. */
const anyLength = Number.MAX_SAFE_INTEGER;
const together = 200;

/**
 * Restores what a rewriting of a live database changed.
 * @param file what the rewriting kept
 */
export async function putBackRows(
  file: string,
  place: DatabasePlace,
  events: EventSink,
  signal: AbortSignal,
): Promise<RowsPutBack> {
  return LiveRows.use({ place, through: undefined }, async rows => {
    const bench = new Workbench();
    let waiting: ByteString[] = [];
    let putBack = 0;
    let notThere = 0;
    const reader = new DumpStatements(bench, anyLength, ({ sql }) => waiting.push(sql));
    const run = async (atLeast: number) => {
      if (waiting.length < atLeast) return;
      const found = await rows.restore(waiting);
      waiting = [];
      putBack += found.filter(one => one).length;
      notThere += found.filter(one => !one).length;
      events({ type: 'progress', what: 'rows', done: putBack + notThere, of: 0, unit: 'rows' });
    };
    const whole = {
      push: (chunk: Buffer) => reader.push(chunk),
      finish: () => {
        try {
          reader.finish();
        } catch (error) {
          // A statement that is cut off was being written when the rewriting was killed: its row had not changed yet.
          if (!(error instanceof DamageError)) throw error;
        }
      },
    };
    await readDump(bench, file, whole, { signal, after: () => run(together) });
    await run(1);
    return { place: shownDatabase(place), putBack, notThere };
  });
}

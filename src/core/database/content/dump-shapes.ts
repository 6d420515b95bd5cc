import { createHash, type Hash } from 'node:crypto';
import type { ByteString } from '../../bytes.js';
import { textOf } from '../../bytes.js';
import { subjectOf } from '../../sql/subject.js';

/** How the tables of a dump are made, and what it makes besides, as digests: equal for two dumps that make the same. */
export class DumpShapes {
  private readonly tables = new Map<string, Hash>();
  private readonly programs = createHash('sha256');

  /** Takes a statement that is not an INSERT of rows. */
  take(statement: ByteString): void {
    const subject = subjectOf(statement);
    if (!subject || !/^(?:create|alter)$/.test(subject.verb)) return;
    if (subject.kind !== 'table') {
      this.programs.update(`${statement}\0`);
      return;
    }
    const [name] = subject.names;
    // Where a table goes on counting, and whether its keys wait, is no part of how it is made.
    const bare = statement.replace(/\bAUTO_INCREMENT=\d+\s*/gi, '').replace(/\b(?:EN|DIS)ABLE KEYS\b/gi, '');
    const hash = this.tables.get(textOf(name ?? '')) ?? createHash('sha256');
    this.tables.set(textOf(name ?? ''), hash.update(`${bare.trim()}\0`));
  }

  /** The digests by table, and that of views and programs, so far. */
  found(): { readonly tables: ReadonlyMap<string, string>; readonly programs: string } {
    return {
      tables: new Map([...this.tables].map(([table, hash]) => [table, hash.copy().digest('hex')])),
      programs: this.programs.copy().digest('hex'),
    };
  }
}

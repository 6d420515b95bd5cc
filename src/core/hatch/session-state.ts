/** A statement that a session has run and that has not ended with it. */
interface Held {
  readonly sql: string;
  /** SHA-256 of the rows that it found, in hex; empty where it found none, or may find others. */
  readonly found: string;
}

/** SHA-256 of nothing, in hex. */
const noRows = 'e3b0c44298fc1c149afbf4c8996fb92427ae41e4649b934ca495991b7852b855';

/**
 * What a session that lasts over several requests holds: settings, locks, and what its transaction has done. It is held by
 * saying it again at the beginning of each request.
 */
export class SessionState {
  private held: Held[] = [];
  /** Where in it the transaction began. */
  private transaction: number | undefined;
  private isSnapshot = false;

  /** @param settings with which the session begins */
  constructor(...settings: readonly string[]) {
    this.held = settings.map(sql => ({ sql, found: '' }));
  }

  get statements(): readonly Held[] {
    return this.held;
  }

  /** Takes in a statement that was run. @param found SHA-256 of its rows, in hex */
  ran(sql: string, found: string): void {
    const hold = () => this.held.push({ sql, found: found === noRows ? '' : found });
    if (/^(?:COMMIT|ROLLBACK)\b/i.test(sql)) {
      if (this.transaction !== undefined) this.held.length = this.transaction;
      this.transaction = undefined;
      this.isSnapshot = false;
    } else if (/^START TRANSACTION\b/i.test(sql)) {
      if (this.transaction !== undefined) this.held.length = this.transaction;
      this.transaction = this.held.length;
      this.isSnapshot = /\bCONSISTENT SNAPSHOT\b/i.test(sql);
      hold();
    } else if (/^SET\b/i.test(sql)) {
      if (this.transaction === undefined) this.held = this.held.filter(one => one.sql !== sql);
      hold();
    } else if (/^UNLOCK TABLES\b/i.test(sql))
      this.held = this.held.filter(one => !/^LOCK TABLES\b/i.test(one.sql));
    else if (/^(?:LOCK TABLES|SELECT GET_LOCK)\b/i.test(sql)) hold();
    else if (
      this.transaction !== undefined &&
      !this.isSnapshot &&
      (changes(sql) || /\bFOR UPDATE$/i.test(sql))
    )
      hold();
  }
}

/** Whether a statement may change something that stays. */
export function changes(sql: string): boolean {
  return !/^(?:SELECT|SHOW|SET|START TRANSACTION|ROLLBACK|CHECKSUM|DO|UNLOCK)\b/i.test(sql);
}

/** What the flags or the person said; what was not said is undefined. */
export interface StartWish {
  readonly name?: string | undefined;
  readonly old?: string | undefined;
  readonly oldReach?: string | undefined;
  readonly also?: readonly string[] | undefined;
  readonly oldFiles?: string | undefined;
  /** A private key for the old host, and the name of the variable that holds the password there. */
  readonly oldKey?: string | undefined;
  readonly oldFilesPassword?: string | undefined;
  readonly oldDump?: string | undefined;
  readonly new?: string | undefined;
  readonly newReach?: string | undefined;
  readonly newFiles?: string | undefined;
  readonly newKey?: string | undefined;
  readonly newFilesPassword?: string | undefined;
  readonly newDump?: string | undefined;
  readonly newServer?: string | undefined;
  /** The name of the variable that holds the new database's password. */
  readonly newPassword?: string | undefined;
  /** Whether the new database is reached over the SSH connection of the files. */
  readonly newThrough?: boolean | undefined;
  /** The size of the pieces for a web panel. */
  readonly parts?: string | undefined;
  readonly newPrefix?: string | undefined;
  readonly probe?: boolean | undefined;
  readonly searchEngines?: string | undefined;
  readonly switchOff?: readonly string[] | undefined;
  readonly webServer?: string | undefined;
  readonly oldRecord?: string | undefined;
  readonly newRecord?: string | undefined;
}

/** Secrets by the variable that holds them. */
export type Secrets = Readonly<Record<string, string | undefined>>;

/** The result of a test of one answer. */
export interface AnswerTest {
  /** Whether it will do; undefined where nobody could be asked. */
  readonly good: boolean | undefined;
  /** What was seen, in one line. */
  readonly said: string;
  /** What to do about it. */
  readonly remedy?: string;
  /** The exit code, where an end could not be reached or refused. */
  readonly exitCode?: number;
  /** Answers to later questions that follow from it. */
  readonly offers?: Partial<StartWish>;
}

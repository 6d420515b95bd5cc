/** What the process returns to its caller (design, section 3). */
export const ExitCode = {
  done: 0,
  stopped: 1,
  usage: 2,
  unreachable: 3,
  damage: 4,
  partWay: 5,
  interrupted: 130,
} as const;

/** What each exit code means, and what to do next. */
export const exitCodeMeanings: readonly {
  readonly code: number;
  readonly meaning: string;
  readonly next: string;
}[] = [
  { code: ExitCode.done, meaning: 'The command did what was asked.', next: 'Continue.' },
  {
    code: ExitCode.stopped,
    meaning: 'The step ran, and a finding says `stop`.',
    next: 'Read the finding, follow its remedy, and run the command again.',
  },
  {
    code: ExitCode.usage,
    meaning: 'The command line or the sheet has a mistake, or a question could not be asked.',
    next: 'Correct what the message names; nothing was done.',
  },
  {
    code: ExitCode.unreachable,
    meaning: 'An end cannot be reached, or refuses the credentials.',
    next: 'Check host, user and password, and run the command again.',
  },
  {
    code: ExitCode.damage,
    meaning: 'Damage was seen: a wrong checksum, truncated or malformed input.',
    next: 'Take or transfer the file again.',
  },
  {
    code: ExitCode.partWay,
    meaning: 'The command failed part-way.',
    next: 'Run it again; it resumes where it was.',
  },
  {
    code: ExitCode.interrupted,
    meaning: 'The command was interrupted, or a question was answered with no.',
    next: 'Run it again; it resumes where it was.',
  },
];

/** What went wrong, for code that decides by it. Messages are for people alone. */
export type ErrorKind =
  /** The command line or the sheet asks for something that cannot be. */
  | 'usage'
  /** Nothing answers: a wrong host or port, a network that is down, a firewall. */
  | 'unreachable'
  /** The host ended the connection before it had begun, as hosts do that count connections. */
  | 'connection cut'
  /** The connection was lost and did not come back. */
  | 'connection lost'
  /** User, password or key are refused. */
  | 'credentials'
  /** The host's key or certificate is not the one that is known. */
  | 'untrusted'
  /** The path is not there. */
  | 'not found'
  /** The account may not do this. */
  | 'permission'
  /** There is no such database, or the account may not open it. */
  | 'no such database'
  /** The server refuses for another reason. */
  | 'refused'
  /** A disk or a quota is full. */
  | 'no room'
  /** Input is truncated, malformed, or not what its checksum says. */
  | 'damage'
  /** Something failed half-way; what was done is kept. */
  | 'part-way';

/** What an error says to a person. */
export interface ErrorDetails {
  /** What was being done, and on what. */
  readonly doing: string;
  /** What came back. */
  readonly cause: string;
  /** What to try next. */
  readonly remedy: string;
  /** Where it is not the usual kind of its class. */
  readonly kind?: ErrorKind;
}

/** An error that an administrator can act on. It is shown in at most three lines. */
export abstract class PorterError extends Error {
  abstract readonly exitCode: number;
  readonly kind: ErrorKind;
  readonly details: ErrorDetails;

  protected constructor(usualKind: ErrorKind, details: ErrorDetails, options?: ErrorOptions) {
    super(`${details.doing}: ${details.cause}`, options);
    this.name = new.target.name;
    this.kind = details.kind ?? usualKind;
    this.details = details;
  }
}

/** The command line or the sheet asks for something that cannot be. */
export class UsageError extends PorterError {
  readonly exitCode = ExitCode.usage;

  constructor(details: ErrorDetails, options?: ErrorOptions) {
    super('usage', details, options);
  }
}

/** An end (or a local place) cannot be reached, or refuses us. */
export class EndError extends PorterError {
  readonly exitCode = ExitCode.unreachable;

  constructor(details: ErrorDetails, options?: ErrorOptions) {
    super('unreachable', details, options);
  }
}

/** Input is truncated, malformed, or not what its checksum says. */
export class DamageError extends PorterError {
  readonly exitCode = ExitCode.damage;

  constructor(details: ErrorDetails, options?: ErrorOptions) {
    super('damage', details, options);
  }
}

/** Something went wrong half-way; what was done is kept or restored, and the step can be run again. */
export class PartWayError extends PorterError {
  readonly exitCode = ExitCode.partWay;

  constructor(details: ErrorDetails, options?: ErrorOptions) {
    super('part-way', details, options);
  }
}

/** A person answered no to a question; nothing was done. */
export class DeclinedError extends Error {}

/** Whether something could not be read because it is not there. */
export function isNotFound(error: unknown): boolean {
  return error instanceof PorterError && error.kind === 'not found';
}

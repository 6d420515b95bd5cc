/** What the process says to its caller when it ends (design, section 3). */
export const ExitCode = {
  done: 0,
  stopped: 1,
  usage: 2,
  unreachable: 3,
  damage: 4,
  partWay: 5,
  interrupted: 130,
} as const;

interface Told {
  /** What was being done, and on what. */
  readonly doing: string;
  /** What came back. */
  readonly cause: string;
  /** What to try next. */
  readonly remedy: string;
}

/** An error that an administrator can act on. It is told in at most three lines. */
export abstract class PorterError extends Error {
  abstract readonly exitCode: number;
  readonly told: Told;

  constructor(told: Told, options?: ErrorOptions) {
    super(`${told.doing}: ${told.cause}`, options);
    this.name = new.target.name;
    this.told = told;
  }
}

/** The command line or the sheet asks for something that cannot be. */
export class UsageError extends PorterError {
  readonly exitCode = ExitCode.usage;
}

/** An end (or a local place) cannot be reached, or refuses us. */
export class EndError extends PorterError {
  readonly exitCode = ExitCode.unreachable;
}

/** Input is truncated, malformed, or not what its checksum says. */
export class DamageError extends PorterError {
  readonly exitCode = ExitCode.damage;
}

/** Something went wrong half-way; what was done is kept or put back, and the step can be run again. */
export class PartWayError extends PorterError {
  readonly exitCode = ExitCode.partWay;
}

import type { catalogue } from './catalogue/catalogue.js';
import type { Level } from './entry.js';

export type FindingCode = keyof typeof catalogue;

/** The levels that a finding of some code can have. */
export type LevelOf<Code extends FindingCode> = (typeof catalogue)[Code]['levels'][number];

/** Something that a step saw: how grave, a stable code, the place, and what to do. */
export interface Finding {
  readonly level: Level;
  readonly code: FindingCode;
  readonly place: string;
  /** One sentence of what was seen. */
  readonly what: string;
  /** One imperative sentence of what to do. */
  readonly remedy: string;
}

/** A finding as it is made: only with a level that the catalogue knows for its code. */
interface Draft<Code extends FindingCode> extends Finding {
  readonly level: LevelOf<Code>;
  readonly code: Code;
}

/** Makes a finding. Every finding is made here, so that none is at odds with the catalogue. */
export function finding<Code extends FindingCode>({
  level,
  code,
  place,
  what,
  remedy,
}: Draft<Code>): Finding {
  return { level, code, place, what, remedy };
}

const weight: Record<Level, number> = { stop: 0, warn: 1, note: 2 };

/** Findings with the gravest first, otherwise in the order in which they were seen. */
export function byWeight<Kind extends Finding>(findings: readonly Kind[]): Kind[] {
  return [...findings].sort((a, b) => weight[a.level] - weight[b.level]);
}

/** Whether the move must not continue. */
export function saysStop(findings: readonly Finding[]): boolean {
  return findings.some(({ level }) => level === 'stop');
}

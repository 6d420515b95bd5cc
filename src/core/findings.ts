type Level = 'stop' | 'warn' | 'note';

/** Something that a step saw: how grave, a stable code, the place, and what to do. */
export interface Finding {
  readonly level: Level;
  readonly code: string;
  readonly place: string;
  readonly what: string;
  readonly remedy: string;
}

const weight: Record<Level, number> = { stop: 0, warn: 1, note: 2 };

/** Findings with the gravest first, otherwise in the order in which they were seen. */
export function byWeight(findings: readonly Finding[]): Finding[] {
  return [...findings].sort((a, b) => weight[a.level] - weight[b.level]);
}

/** Whether the move must not go on. */
export function saysStop(findings: readonly Finding[]): boolean {
  return findings.some(finding => finding.level === 'stop');
}

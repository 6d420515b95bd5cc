/** What a look at something showed; what was not looked at is not reported as good. */
export type Look = 'seen good' | 'seen bad' | 'not looked at';

/** One thing that can be looked at, and what was seen. */
export interface Seen {
  readonly what: string;
  readonly look: Look;
  /** What was seen, or why it was not looked at. */
  readonly text: string;
}

const gravity: Record<Look, number> = { 'seen good': 0, 'not looked at': 1, 'seen bad': 2 };

/** The worst of several looks; of none at all, that nothing was looked at. */
export function worstOf(list: readonly Seen[]): Look {
  if (list.length === 0) return 'not looked at';
  return list.map(({ look }) => look).reduce((a, b) => (gravity[b] > gravity[a] ? b : a));
}

/** The names of the things that a look is true of. */
function namesOf(list: readonly Seen[], look: Look): string {
  return list
    .filter(one => one.look === look)
    .map(({ what }) => what)
    .join(', ');
}

/** The headline of a comparison: the worst of what was seen. */
export function headlineOf(list: readonly Seen[]): string {
  switch (worstOf(list)) {
    case 'seen bad':
      return `The new site is not the old one yet: see ${namesOf(list, 'seen bad')}.`;
    case 'not looked at':
      return `Not everything was looked at: ${namesOf(list, 'not looked at') || 'nothing was compared'}.`;
    case 'seen good':
      return 'The new site is the old one, moved.';
  }
}

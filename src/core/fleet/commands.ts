/** The commands that a fleet runs on its sites. */
export const siteCommands = [
  'survey',
  'pack',
  'rewrite',
  'deliver',
  'check',
  'redirects',
  'cutover',
  'go',
  'undo',
  'tidy',
] as const;

const looks = ['survey', 'check', 'cutover', 'cutover plan', 'cutover watch'];

/** Whether a command, with its options, changes nothing at any host or in a move. */
export function onlyLooks(command: string): boolean {
  return looks.includes(command.replace(/ -.*$/s, ''));
}

/** What an option, its value or an action looks like; no path does. */
const word = /^[\w:.,=-]{1,200}$/;

/** Whether words that come from a queue are a command of a site: whoever can write to the queue is not trusted with more. */
export function isSiteCommand(words: unknown): words is readonly string[] {
  return (
    Array.isArray(words) &&
    siteCommands.some(one => one === words[0]) &&
    words.every(one => typeof one === 'string' && word.test(one))
  );
}

/** A message of the language that visitors see. */
export interface ProgramMessage {
  readonly text: string;
  /** `message` for an error, warning or notice; `source` for the code itself. */
  readonly kind: 'message' | 'source';
}

const message =
  /\b(?:PHP )?(?:(?:Fatal|Parse|Catchable fatal|Recoverable fatal) error|Warning|Notice|Deprecated|Strict Standards)<?\/?b?>?:\s.{3,400}? in (?:<b>)?\S+\.(?:php|inc|module|phtml)\b(?:<\/b>)?(?:\(\d+\)[^\n]*)?(?: on line (?:<b>)?\d+)?/i;
const uncaught = /\bUncaught (?:\w+\\)*\w*(?:Error|Exception)\b.{0,200}/;

/**
 * What of the language's own messages, and of its source, is in a page (PHP manual, error reporting: `display_errors`,
 * `html_errors`).
 * @param html the page as sent
 */
export function programMessagesIn(html: string): ProgramMessage[] {
  const found: ProgramMessage[] = [];
  const first = message.exec(html) ?? uncaught.exec(html);
  if (first) found.push({ text: first[0].replace(/<[^>]*>/g, '').replace(/\s+/g, ' '), kind: 'message' });
  const source = /<\?(?:php\b|=)[\s\S]{0,80}/.exec(withoutScripts(html));
  if (source) found.push({ text: source[0].replace(/\s+/g, ' ').trim(), kind: 'source' });
  return found;
}

/** Code that a page shows on purpose is written with entities; in scripts it may be text of the program itself. */
function withoutScripts(html: string): string {
  return html.replace(/<script\b[\s\S]*?<\/script\s*>/gi, '');
}

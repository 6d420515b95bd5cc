/** A node of the parser's syntax tree, as far as it is looked at here. */
export interface Node {
  readonly kind: string;
  readonly loc?: { start: { offset: number; line: number }; end: { offset: number } };
  readonly [key: string]: unknown;
}

/** The name that a call calls, in lower case and without a leading backslash; empty for what is computed. */
export function nameOfCall(call: Node): string {
  const what = call.what as Node | undefined;
  return what?.kind === 'name' && typeof what.name === 'string'
    ? what.name.replace(/^\\/, '').toLowerCase()
    : '';
}

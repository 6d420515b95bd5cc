/** Headers of an answer, by their names in lower case. */
export type Headers = Readonly<Record<string, string | readonly string[] | undefined>>;

/** An answer to a request for a page, after the redirects that stay on the site. */
export interface Answer {
  readonly status: number;
  /** The body as text; nothing of it where it is something else than text. */
  readonly html: string;
  /** Where redirects led, or the address asked. */
  readonly address: string;
  readonly headers: Headers;
  /** How many redirects were followed. */
  readonly redirects: number;
  /** Whether the last redirect led back to where one had been. */
  readonly isLoop: boolean;
  /** Whether all of the body came: `cut` where the connection ended before, `too long` where the rest was not read. */
  readonly body: 'whole' | 'cut' | 'too long' | 'undecodable';
  /** Bytes of the body as it was sent. */
  readonly bytes: number;
  /** Milliseconds until the first byte of the answer. */
  readonly millis: number;
}

/** A header's value as text, those of several joined. */
export function headerOf({ headers }: Pick<Answer, 'headers'>, name: string): string | undefined {
  const value = headers[name];
  return value === undefined ? undefined : typeof value === 'string' ? value : value.join(', ');
}

/** Every value of a header. */
export function headersNamed({ headers }: Pick<Answer, 'headers'>, name: string): readonly string[] {
  const value = headers[name];
  return value === undefined ? [] : typeof value === 'string' ? [value] : value;
}

/** Whether an answer is HTML, as its header says, or its beginning where there is none. */
export function isHtml(answer: Pick<Answer, 'headers' | 'html'>): boolean {
  const type = headerOf(answer, 'content-type');
  return type === undefined ? /^\s*</.test(answer.html) : /html|xml\+xhtml|xhtml\+xml/i.test(type);
}

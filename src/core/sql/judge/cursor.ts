import { type Token, tokensOf } from '../lexer.js';
import type { Dialect } from '../literal.js';

/** Why a statement is not of a known form. */
export class NotAllowed extends Error {}

/** Goes through the tokens of a statement, all of which must be of a form that is known. */
export class Cursor {
  private readonly s: string;
  private readonly tokens: readonly Token[];
  private at = 0;

  constructor(s: string, dialect: Dialect) {
    this.s = s;
    this.tokens = [...tokensOf(s, dialect)];
  }

  /** @throws NotAllowed unless all was gone through */
  end(): void {
    if (this.at < this.tokens.length) throw this.unknown();
  }

  get isAtEnd(): boolean {
    return this.at >= this.tokens.length;
  }

  /** What is wrong with the next token. */
  unknown(): NotAllowed {
    const token = this.tokens[this.at];
    if (!token) return new NotAllowed('it ends too early');
    return new NotAllowed(`"${token.kind === 'string' ? '…' : token.text.slice(0, 40)}" is in no dump there`);
  }

  /** The next token as a bare word in small letters; empty where it is none. */
  peek(ahead = 0): string {
    const token = this.tokens[this.at + ahead];
    return token?.kind === 'word' ? token.text.toLowerCase() : '';
  }

  peekMark(ahead = 0): string {
    const token = this.tokens[this.at + ahead];
    return token?.kind === 'mark' ? token.text : '';
  }

  get isString(): boolean {
    return this.tokens[this.at]?.kind === 'string';
  }

  /** The text of the next token. */
  text(): string {
    return this.tokens[this.at]?.text ?? '';
  }

  skip(): void {
    this.at++;
  }

  /** Takes words that come one after the other; takes none where they are others. */
  words(...words: readonly string[]): boolean {
    if (!words.every((word, i) => this.peek(i) === word)) return false;
    this.at += words.length;
    return true;
  }

  /** Takes one of some words. @returns which */
  oneOf(words: ReadonlySet<string>): string | undefined {
    const word = this.peek();
    if (!words.has(word)) return undefined;
    this.at++;
    return word;
  }

  mark(mark: string): boolean {
    if (this.peekMark() !== mark) return false;
    this.at++;
    return true;
  }

  /** @throws NotAllowed where other words come */
  need(...words: readonly string[]): void {
    if (!this.words(...words)) throw this.unknown();
  }

  /** @throws NotAllowed where another mark comes */
  needMark(mark: string): void {
    if (!this.mark(mark)) throw this.unknown();
  }

  /** A name that has no other before it. @throws NotAllowed */
  name(): string {
    const token = this.tokens[this.at];
    const isName =
      token !== undefined &&
      (token.kind === 'name' ||
        (token.kind === 'word' && /[^\d]/.test(token.text)) ||
        (token.kind === 'string' && this.s[token.start] === '"'));
    if (!isName) throw this.unknown();
    this.at++;
    if (this.peekMark() === '.') throw new NotAllowed('it names something of another database');
    return token.text;
  }

  /** A name, whatever comes after it. @throws NotAllowed */
  anyName(): string {
    const token = this.tokens[this.at];
    if (token === undefined || token.kind === 'mark') throw this.unknown();
    this.at++;
    return token.text;
  }

  /** A string between quotes. @throws NotAllowed */
  string(): string {
    const token = this.tokens[this.at];
    if (token?.kind !== 'string') throw this.unknown();
    this.at++;
    return token.text;
  }

  /** A list in brackets. */
  list(item: () => void): void {
    this.needMark('(');
    do item();
    while (this.mark(','));
    this.needMark(')');
  }

  /** Whether the next token is a number, which it takes. */
  number(): boolean {
    if (!/^\d+(?:e\d+)?$/.test(this.peek()) && !(this.peekMark() === '.' && /^\d/.test(this.peek(1))))
      return false;
    if (this.peekMark() !== '.') this.at++;
    if (this.mark('.')) {
      if (/^\d+(?:e\d*)?$/.test(this.peek())) this.at++;
    }
    // 1e-5 is three tokens.
    const last = this.tokens[this.at - 1]?.text ?? '';
    if (/^\d+e$/i.test(last) && /[-+]/.test(this.peekMark()) && /^\d+$/.test(this.peek(1))) this.at += 2;
    return true;
  }

  /** Whether the next token is a literal, which it takes. */
  literal(): boolean {
    const token = this.tokens[this.at];
    if (!token) return false;
    if (token.kind === 'string') {
      do this.at++;
      while (this.isString);
      return true;
    }
    if (/^[-+]$/.test(this.peekMark())) {
      this.at++;
      if (!this.number()) throw this.unknown();
      return true;
    }
    const word = this.peek();
    const isPrefixed = this.tokens[this.at + 1]?.kind === 'string';
    if (isPrefixed && /^(?:[bnx]|_[a-z0-9]+)$/.test(word)) {
      this.at += 2;
      return true;
    }
    if (/^0x[0-9a-f]*$|^0b[01]*$/.test(word)) {
      this.at++;
      return true;
    }
    if (/^_[a-z0-9]+$/.test(word) && /^0x[0-9a-f]*$/.test(this.peek(1))) {
      this.at += 2;
      return true;
    }
    if (/^(?:null|true|false)$/.test(word)) {
      this.at++;
      return true;
    }
    return this.number();
  }
}

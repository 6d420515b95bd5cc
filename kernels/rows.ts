// Goes through the rows of an INSERT from mark to mark. What a mark means to the dump is decided in JavaScript, but for
// literals that hold old addresses in the usual ways: their edits are noted here.
import { anchorIn, areCommon, editsInText, goBackTo, lookAt, next } from './addresses';
import { beginLiteral, count, editsGoTo, keepEdits } from './edits';
import { holdsLengths, mayBeSerialized } from './opening';
import { editsInSerialized } from './serialized';

/** Why `rows` stops; `RowLexer` names the same. */
const atEnd: i32 = 0;
const atLiteral: i32 = 1;
const atHex: i32 = 2;
const atRow: i32 = 3;
const atDelimiter: i32 = 4;
const atAside: i32 = 5;
const inLiteral: i32 = 6;
const atWord: i32 = 7;

/** Where things are in the state, as whole numbers of four bytes; `RowLexer` says the same. */
const stateAt: usize = 0;
const stateDepth: usize = 4;
const stateColumn: usize = 8;
const stateRowStart: usize = 12;
const stateStart: usize = 16;
const stateEnd: usize = 20;
const stateRows: usize = 24;
const stateQuiet: usize = 28;
const stateTouched: usize = 32;
const stateBackslash: usize = 36;
const stateStopAtRows: usize = 40;
const stateLast: usize = 44;
const stateQuote: usize = 48;
const stateNoDelimiter: usize = 52;
/** Where anchors are, or 0 where they are not known; how many; up to where they were gone through; what is known of them. */
const stateAnchors: usize = 56;
const stateAnchorCount: usize = 60;
const stateNextAnchor: usize = 64;
const stateAddresses: usize = 68;
/** Where edits go, how many have room, and how many are there. */
const stateEdits: usize = 72;
const stateEditRoom: usize = 76;
const stateEditCount: usize = 80;
/** What each byte means between literals, how many literals of each column were skipped, and which are shown. */
const meaningsAt: usize = 96;
const countsAt: usize = meaningsAt + 256;
const columns: i32 = 4100;
const shownAt: usize = countsAt + 4 * columns;
/** Literals of a column are always shown, or when an old address may be in them, or when one is or may be. */
const always: u8 = 1;
const withAnchor: u8 = 2;
const withAddress: u8 = 3;

/** What a byte may be between literals; `RowLexer` says the same. */
const quoteMark: u8 = 1;
const opening: u8 = 2;
const closing: u8 = 3;
const comma: u8 = 4;
const hexMark: u8 = 5;
const dash: u8 = 6;
const slash: u8 = 7;
const aside: u8 = 8;
const word: u8 = 9;
/** The bytes of NULL as a number of four bytes, in capitals; and what makes them so. */
const nullWord: u32 = 0x4c4c554e;
const capitals: u32 = 0xdfdfdfdf;
const delimiter: u8 = 0x80;

/** Whether a quote was doubled in the string that was gone through last. */
let doubled = false;

/** Sixty-four bits, of sixteen bytes each. */
// @ts-expect-error: decorators of functions are AssemblyScript's own.
@inline
function bitsOf(a: v128, b: v128, c: v128, d: v128): u64 {
  const low = <u32>(i8x16.bitmask(a) | (i8x16.bitmask(b) << 16));
  const high = <u32>(i8x16.bitmask(c) | (i8x16.bitmask(d) << 16));
  return <u64>low | (<u64>high << 32);
}

/** As a constant the compiler would make it again for each use. */
const backslashesAt = memory.data(16, 16);
v128.store(backslashesAt, i8x16.splat(0x5c));
/** Every second bit. */
const odd: u64 = 0xaaaaaaaaaaaaaaaa;

/**
 * The quote that ends a string, or what is below 0: as many bytes are before it as are known not to end it. Which bytes
 * are escaped is computed for sixty-four together, after "simdjson" (G. Langdale, D. Lemire): a subtraction runs
 * through each row of backslashes, and stops behind it.
 */
function endOfString(shift: usize, from: i32, until: i32, quote: u8, backslash: bool, last: bool): i32 {
  const quotes = i8x16.splat(<i8>quote);
  const backslashes = v128.load(backslashesAt);
  let at = from;
  /** Whether the first byte is escaped by what is before it. */
  let isEscaped: u64 = 0;
  while (at < until) {
    const place = shift + at;
    const a = v128.load(place);
    const b = v128.load(place, 16);
    const c = v128.load(place, 32);
    const d = v128.load(place, 48);
    const quoteA = i8x16.eq(a, quotes);
    const quoteB = i8x16.eq(b, quotes);
    const quoteC = i8x16.eq(c, quotes);
    const quoteD = i8x16.eq(d, quotes);
    const slashA = i8x16.eq(a, backslashes);
    const slashB = i8x16.eq(b, backslashes);
    const slashC = i8x16.eq(c, backslashes);
    const slashD = i8x16.eq(d, backslashes);
    const anyQuote = v128.or(v128.or(quoteA, quoteB), v128.or(quoteC, quoteD));
    const anySlash = v128.or(v128.or(slashA, slashB), v128.or(slashC, slashD));
    // Mostly there is nothing for long.
    if (!v128.any_true(v128.or(anyQuote, anySlash))) {
      at += 64;
      isEscaped = 0;
      continue;
    }
    let ends = bitsOf(quoteA, quoteB, quoteC, quoteD);
    let escapes: u64 = 0;
    if (backslash) {
      const marks = bitsOf(slashA, slashB, slashC, slashD);
      const starts = marks & ~isEscaped;
      const codes = (((starts << 1) | odd) - starts) ^ odd;
      ends &= ~(codes ^ (marks | isEscaped));
      escapes = codes & marks;
    }
    const known = until - at;
    if (known < 64) ends &= (<u64>1 << <u64>known) - 1;
    if (ends != 0) {
      at += <i32>ctz(ends);
      if (at + 1 == until) return last ? at : ~at;
      if (load<u8>(shift + at, 1) != quote) return at;
      doubled = true;
      at += 2;
      isEscaped = 0;
    } else if (known <= 64) {
      // A backslash that is the last byte known is resumed.
      return ~(until - <i32>((escapes >> <u64>(known - 1)) & 1));
    } else {
      at += 64;
      isEscaped = escapes >> 63;
    }
  }
  return ~min(at, until);
}

/** Adds the edits of a literal with anchors. @returns false, and adds nothing, where that is left to JavaScript */
function editsInLiteral(shift: usize, start: i32, end: i32, quote: u8, escapes: bool, column: i32): bool {
  const before = count;
  const anchor = next;
  beginLiteral(column);
  let done = areCommon(end);
  if (done) {
    if (mayBeSerialized(shift, start, end))
      done = escapes && quote == 0x27 && !doubled && editsInSerialized(shift, start, end);
    else done = !holdsLengths(shift, start, end) && editsInText(start, end, escapes ? 2 : 1, false);
  }
  if (!done) {
    keepEdits(before);
    goBackTo(anchor);
  }
  return done;
}

/** Whether a literal is to be shown. */
function isShown(shift: usize, state: usize, start: i32, end: i32, quote: u8, escapes: bool, column: i32): bool {
  const shown = load<u8>(state + min(column, columns - 1), shownAt);
  if (load<i32>(state, stateAnchors) == 0) return end > load<i32>(state, stateQuiet) || shown == always;
  if (shown == always) return true;
  if (!anchorIn(start, end)) return false;
  if (shown == withAnchor) return true;
  const before = count;
  const anchor = next;
  if (!editsInLiteral(shift, start, end, quote, escapes, column)) return true;
  if (shown != withAddress || count == before) return false;
  keepEdits(before);
  goBackTo(anchor);
  return true;
}

/**
 * Goes on with rows until something is to be shown. All offsets are those of the window.
 * @param shift the address of the window's first byte, were it in memory
 * @param until the offset after the last byte that is in memory
 * @returns why it stops
 */
export function rows(shift: usize, until: i32, state: usize): i32 {
  const backslash = load<i32>(state, stateBackslash) != 0;
  const stopAtRows = load<i32>(state, stateStopAtRows) != 0;
  const last = load<i32>(state, stateLast) != 0;
  const noDelimiter = load<i32>(state, stateNoDelimiter);
  let at = load<i32>(state, stateAt);
  let depth = load<i32>(state, stateDepth);
  let column = load<i32>(state, stateColumn);
  let quote = <u8>load<i32>(state, stateQuote);
  let why = atEnd;
  doubled = false;
  const places = load<i32>(state, stateAnchors);
  lookAt(shift, load<i32>(state, stateAddresses), places, load<i32>(state, stateAnchorCount), load<i32>(state, stateNextAnchor));
  editsGoTo(load<i32>(state, stateEdits), load<i32>(state, stateEditRoom), load<i32>(state, stateEditCount));
  while (at < until) {
    const byte = quote != 0 ? quote : load<u8>(shift + at);
    let meaning = quote != 0 ? quoteMark : load<u8>(state + byte, meaningsAt);
    if (meaning == 0) {
      at++;
      continue;
    }
    if ((meaning & delimiter) != 0) {
      if (at != noDelimiter) {
        why = atDelimiter;
        break;
      }
      meaning &= ~delimiter;
    }
    if (meaning == quoteMark) {
      if (quote == 0) {
        store<i32>(state, ++at, stateStart);
        doubled = false;
      }
      quote = 0;
      const end = endOfString(shift, at, until, byte, backslash, last);
      if (end < 0) {
        at = ~end;
        quote = byte;
        why = inLiteral;
        break;
      }
      at = end + 1;
      const place = <usize>min(column, columns - 1);
      if (isShown(shift, state, load<i32>(state, stateStart), end, byte, backslash, column)) {
        store<i32>(state, end, stateEnd);
        why = atLiteral;
        break;
      }
      const count = state + 4 * place;
      store<i32>(count, load<i32>(count, countsAt) + 1, countsAt);
      if (column >= load<i32>(state, stateTouched)) store<i32>(state, <i32>place + 1, stateTouched);
    } else if (meaning == comma) {
      at++;
      if (depth == 1) column++;
    } else if (meaning == opening) {
      if (++depth == 1) {
        column = 0;
        store<i32>(state, at, stateRowStart);
      }
      at++;
    } else if (meaning == closing) {
      at++;
      if (--depth == 0) {
        store<i32>(state, load<i32>(state, stateRows) + 1, stateRows);
        if (stopAtRows) {
          why = atRow;
          break;
        }
      }
    } else if (meaning == aside) {
      why = atAside;
      break;
    } else if (meaning == word) {
      // Nearly every word is this one.
      if (depth == 1 && until - at > 4 && (load<u32>(shift + at) & capitals) == nullWord) {
        const after = load<u8>(shift + at, 4);
        if (after == 0x2c || after == 0x29) {
          at += 4;
          continue;
        }
      }
      why = atWord;
      break;
    } else if (meaning != 0) {
      const second = at + 1 < until ? load<u8>(shift + at, 1) : 0;
      const begins = meaning == dash ? second == 0x2d : meaning == slash ? second == 0x2a : byte == 0x30 ? second == 0x78 : second == 0x27;
      if (begins || at + 1 == until) {
        why = meaning == hexMark ? atHex : atAside;
        break;
      }
      if (byte != 0x30 && byte != 0x2d) {
        why = atWord;
        break;
      }
      at++;
    } else at++;
  }
  store<i32>(state, at, stateAt);
  store<i32>(state, depth, stateDepth);
  store<i32>(state, column, stateColumn);
  store<i32>(state, quote, stateQuote);
  store<i32>(state, next, stateNextAnchor);
  store<i32>(state, count, stateEditCount);
  return why;
}

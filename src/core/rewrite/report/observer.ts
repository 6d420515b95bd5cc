import { excerpt } from '../../text/display.js';
import type { Form, Miss } from '../match/match.js';
import type { LeftList } from './left-list.js';
import type { PlaceTally } from './tally.js';

/** Where to note what happens to one value. */
export interface Observer {
  matched(pair: number, form: Form, times?: number): void;
  /** @param low the bounds of the value, beyond which a sample must not reach */
  missed(miss: Miss, s: string, at: number, low: number, high: number): void;
  damaged(cause: string, s: string, at: number): void;
  mended(): void;
}

/** For values whose counts nobody asks for. */
export const unnoted: Observer = { matched() {}, missed() {}, damaged() {}, mended() {} };

/** Notes what happens to values of one place, and in a list what was left one by one. */
export function observerOf(place: PlaceTally, list?: LeftList): Observer {
  return {
    matched(pair, form, times = 1) {
      place.pairs[pair] = (place.pairs[pair] ?? 0) + times;
      place.forms[form] = (place.forms[form] ?? 0) + times;
    },
    missed(miss, s, at, low, high) {
      place.misses[miss] = (place.misses[miss] ?? 0) + 1;
      place.missSamples[miss] ??= excerpt(s, at, 40, low, high);
      list?.note(place, miss, excerpt(s, at, 40, low, high));
    },
    damaged(cause, s, at) {
      place.damaged++;
      place.missSamples.damaged ??= `${cause}: ${excerpt(s, at)}`;
      list?.note(place, `damaged: ${cause}`, excerpt(s, at));
    },
    mended() {
      place.mended++;
    },
  };
}

import { bytesOfText } from '../../bytes.js';
import { addressesBytes } from '../../kernels/workbench.js';
import type { ManySearch } from '../../search/many.js';
import type { AddressTarget, Rules } from '../terms/rules.js';
import type { Form } from './match.js';

/** The layout of what the kernels know of anchors and addresses is that of kernels/addresses.ts. */
const kinds = { host: 1, path: 2, root: 3 };
const anchorBytes = 16;
const addressBytes = 44;
const putsAt = 12;
const kept = -1;
const deepest = 3;

/** The form of an address that the kernels rewrote, by what they note of it. */
export function commonForm(address: number): Form {
  return address & 1 ? 'json-escaped' : 'plain';
}

/** The pair of an address that the kernels rewrote, by what they note of it. */
export function commonPair(address: number): number {
  return address >> 1;
}

/**
 * Old addresses as nearly all are written, in text and in serialized values, rewritten in the kernels. What is written
 * otherwise, carried otherwise, or not to be rewritten is left to `editsInValue`, to whose edits these are equal.
 */
export class CommonAddresses {
  private readonly rules: Rules;
  private readonly table: Buffer | undefined;

  constructor(rules: Rules) {
    this.rules = rules;
    const table = rules.mend ? undefined : this.tableOf();
    this.table = table && table.length <= addressesBytes ? table : undefined;
  }

  /** Looks for the anchors of windows. */
  get search(): ManySearch | undefined {
    return this.table && this.rules.anchors?.search;
  }

  /** Looks for anchors in a window. @returns how many there are, or undefined where nothing can be done here */
  window(bytes: Uint8Array): number | undefined {
    const { search } = this;
    if (!this.table || !search) return undefined;
    const { bench } = this.rules;
    if (bench.take(bench.addresses, this)) this.table.copy(bench.memory, bench.addresses);
    return search.leaveAnchors(bytes);
  }

  private tableOf(): Buffer | undefined {
    const { anchors, paths } = this.rules;
    if (!anchors) return undefined;
    const head = Buffer.alloc(anchorBytes * anchors.kinds.length);
    const parts: Buffer[] = [head];
    let end = head.length;
    const append = (part: Buffer) => {
      const at = end;
      parts.push(part);
      end += part.length;
      return at;
    };
    const appendText = (text: string, numbers: Buffer, place: number) => {
      numbers.writeUInt32LE(append(Buffer.from(text, 'latin1')), place);
      numbers.writeInt32LE(text.length, place + 4);
    };
    for (const [index, kind] of anchors.kinds.entries()) {
      const text = anchors.texts[index]!;
      const at = anchorBytes * index;
      head.writeUInt32LE(text.length, at + 4);
      if (kind === 'path') {
        const alone = paths.some(({ segments }) => segments.length === 1 && segments[0] === text);
        head.writeUInt32LE(alone ? 0 : kinds.path, at);
      } else if (kind === 'root') {
        // Beside paths a link's start may be one of theirs.
        head.writeUInt32LE(paths.length > 0 || this.rules.hosts.has(text.slice(1)) ? 0 : kinds.root, at);
      } else if (kind === 'host') {
        const targets = this.rules.hosts.get(text)!;
        if (!targets.every(isCommon)) continue;
        const addresses = Buffer.alloc(addressBytes * targets.length);
        for (const [i, target] of targets.entries()) {
          const place = addressBytes * i;
          appendText(pathOf(target.from.segments), addresses, place);
          addresses.writeUInt32LE(target.pair, place + 8);
          for (let depth = 0; depth <= deepest; depth++) {
            const put = newText(target, text)?.replaceAll('/', `${'\\'.repeat(depth)}/`);
            if (put === undefined) addresses.writeInt32LE(kept, place + putsAt + 8 * depth + 4);
            else appendText(put, addresses, place + putsAt + 8 * depth);
          }
        }
        head.writeUInt32LE(kinds.host, at);
        head.writeUInt32LE(append(addresses), at + 8);
        head.writeUInt32LE(targets.length, at + 12);
      }
    }
    return Buffer.concat(parts);
  }
}

/** What an address becomes where it is at a host; undefined where it stays as it is. */
function newText({ to, from }: AddressTarget, host: string): string | undefined {
  if (!to) return undefined;
  const name = host === from.host ? to.host : bytesOfText(to.unicodeHost);
  return `${to.scheme}://${name}${to.port === undefined ? '' : `:${to.port}`}${pathOf(to.segments)}`;
}

function pathOf(segments: readonly string[]): string {
  return segments.map(segment => `/${segment}`).join('');
}

/** Whether the kernels can handle everything about an address. */
function isCommon({ from, to }: AddressTarget): boolean {
  return (
    from.port === undefined && !(to && to.host === from.host && pathOf(to.segments) === pathOf(from.segments))
  );
}

import { excerpt } from '../text/display.js';

/** An address of any host as it was seen in data. */
export interface SeenHost {
  /** Host, with its port if one is written. */
  readonly host: string;
  count: number;
  /** How often in each form. */
  readonly forms: Record<string, number>;
  /** How often a path followed that only this site's own addresses are followed by. */
  ownPaths: number;
  /** The path between the host and such a path, as seen first: the folder the site was in. */
  base: string | undefined;
  /** Where it was seen first. */
  readonly place: string;
  readonly sample: string;
}

const slash = String.raw`(?:\\*\/|%(?:25)*2f|\\+u002f|&(?:#0*47|#x0*2f|sol);)`;
const pattern = () =>
  new RegExp(
    String.raw`(?:(https?)(?::|%(?:25)*3a|&(?:#0*58|#x0*3a|colon);)|(?<=["'(=\s]))(${slash})${slash}((?:[a-z0-9](?:[a-z0-9-]*[a-z0-9])?\.)+[a-z][a-z0-9-]*[a-z0-9])(?::(\d+))?`,
    'gi',
  );

/** Collects the addresses of every host that values name. Memory is bounded by the number of hosts kept. */
export class SeenHosts {
  private readonly hosts = new Map<string, SeenHost>();
  private readonly landmark: RegExp | undefined;
  private readonly addresses = pattern();
  private s = '';
  private next = -1;
  private found: RegExpExecArray | null = null;

  /** @param landmark what follows only an address of the site's own family, or undefined where none is known */
  constructor(landmark: RegExp | undefined) {
    this.landmark = landmark;
  }

  /** A new string that later calls of `look` refer to. */
  window(s: string): void {
    this.s = s;
    this.next = -1;
  }

  /** Notes the addresses that begin between two offsets. */
  look(start: number, end: number, place: string): void {
    if (this.next < start) this.seek(start);
    while (this.found && this.next < end) {
      this.note(this.found, place, start, end);
      this.seek(this.next + this.found[0].length);
    }
  }

  /** Every host seen, the most frequent first. */
  all(): SeenHost[] {
    return [...this.hosts.values()].sort((a, b) => b.count - a.count);
  }

  private seek(from: number): void {
    this.addresses.lastIndex = from;
    this.found = this.addresses.exec(this.s);
    this.next = this.found ? this.found.index : Number.POSITIVE_INFINITY;
  }

  private note(found: RegExpExecArray, place: string, low: number, high: number): void {
    const [whole, scheme, unit, name, port] = found;
    const host = name!.toLowerCase() + (port === undefined ? '' : `:${port}`);
    let seen = this.hosts.get(host);
    if (!seen) {
      if (this.hosts.size >= 10_000) return;
      const sample = excerpt(this.s, found.index, 30, low, high);
      seen = { host, count: 0, forms: {}, ownPaths: 0, base: undefined, place, sample };
      this.hosts.set(host, seen);
    }
    const form = formOf(scheme, unit!);
    seen.count++;
    seen.forms[form] = (seen.forms[form] ?? 0) + 1;
    if (!this.landmark) return;
    const after = this.s.slice(found.index + whole.length, found.index + whole.length + 120);
    for (const at of slashesIn(after)) {
      if (!this.landmark.test(after.slice(at))) continue;
      seen.ownPaths++;
      seen.base ??= after.slice(0, at).replace(/\\+\/|%(?:25)*2f/gi, '/');
      break;
    }
  }
}

/** The offsets at which a path's slashes stand, for its first few segments. */
function slashesIn(after: string): number[] {
  const path = /^[\w\\/%~.-]*/.exec(after)![0];
  return [...path.matchAll(/\\*\/|%(?:25)*2f/gi)].slice(0, 4).map(found => found.index);
}

function formOf(scheme: string | undefined, unit: string): string {
  if (unit.startsWith('%')) return 'percent-encoded';
  if (unit.startsWith('&')) return 'entity';
  if (/u002f/i.test(unit)) return 'unicode-escaped';
  if (unit.length > 2 || (unit.length === 2 && unit[0] === '\\')) return 'json-escaped';
  return scheme === undefined ? 'schemeless' : scheme.toLowerCase();
}

/** A folder on a server that paths in data lead into, and how often. */
export interface SeenFolder {
  readonly folder: string;
  count: number;
  /** Where it was seen first. */
  readonly place: string;
}

/** Under which folders hosts keep the sites of their customers. */
const roots =
  /^\/(?:home\d*|var|srv|www|usr|data\d*|mnt|opt|customers?|kunden|clients?|vhosts?|hosting|users?|web\d*|homepages|htdocs|domains|sites|storage|volume\d*)\//i;
const longest = 240;

/** Collects the folders on a server in which a site has been, recognised by absolute paths into its own folders. */
export class SeenFolders {
  private readonly folders = new Map<string, SeenFolder>();
  private readonly landmark: RegExp | undefined;
  private s = '';
  private next = -1;

  /** @param landmark what only a site's own folders are followed by, from its slash on; see `Family` */
  constructor(landmark: RegExp | undefined) {
    this.landmark = landmark && new RegExp(landmark.source.replace(/^\^/, ''), 'gi');
  }

  /** A new string that later calls of `look` refer to. */
  window(s: string): void {
    this.s = s;
    this.next = -1;
  }

  /** Notes the paths whose landmarks stand between two offsets. */
  look(start: number, end: number, place: string): void {
    if (!this.landmark) return;
    if (this.next < start) this.seek(start);
    while (this.next < end) {
      this.note(this.next, start, place);
      this.seek(this.landmark.lastIndex);
    }
  }

  /** Every folder seen, the most frequent first. */
  all(): SeenFolder[] {
    return [...this.folders.values()].sort((a, b) => b.count - a.count);
  }

  private seek(from: number): void {
    this.landmark!.lastIndex = from;
    this.next = this.landmark!.exec(this.s)?.index ?? Number.POSITIVE_INFINITY;
  }

  private note(at: number, low: number, place: string): void {
    let start = at;
    const least = Math.max(low, at - longest);
    while (start > least && /[\w.~@+\-/\\]/.test(this.s[start - 1]!)) start--;
    const folder = this.s.slice(start, at).replace(/\\+\//g, '/');
    // Two slashes begin an address; a letter and a colon before one, a scheme.
    if (!roots.test(`${folder}/`) || folder.startsWith('//') || /[:\w]/.test(this.s[start - 1] ?? ' '))
      return;
    const seen = this.folders.get(folder);
    if (seen) seen.count++;
    else if (this.folders.size < 1000) this.folders.set(folder, { folder, count: 1, place });
  }
}

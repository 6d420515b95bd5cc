/** What is known of a site to say whether it may begin. */
interface Waiting {
  readonly name: string;
  readonly hosts: readonly string[];
}

/** How much is done at once: so many sites, and so many at each host. */
export class Slots {
  private readonly atOnce: number;
  private readonly perHost: number;
  private readonly taken = new Map<string, readonly string[]>();
  private readonly byHost = new Map<string, number>();

  constructor(atOnce: number, perHost: number) {
    this.atOnce = atOnce;
    this.perHost = perHost;
  }

  /** The first site for which there is room, taken out of those that wait; undefined where there is none. */
  take<Site extends Waiting>(waiting: Site[]): Site | undefined {
    if (this.taken.size >= this.atOnce) return undefined;
    const at = waiting.findIndex(({ hosts }) =>
      hosts.every(host => (this.byHost.get(host) ?? 0) < this.perHost),
    );
    const [site] = at < 0 ? [] : waiting.splice(at, 1);
    if (!site) return undefined;
    this.taken.set(site.name, site.hosts);
    for (const host of site.hosts) this.byHost.set(host, (this.byHost.get(host) ?? 0) + 1);
    return site;
  }

  release(name: string): void {
    for (const host of this.taken.get(name) ?? []) this.byHost.set(host, this.byHost.get(host)! - 1);
    this.taken.delete(name);
  }
}

import { XMLParser } from 'fast-xml-parser';

/** What a sitemap says (sitemaps.org, protocol 0.9): its pages, or the sitemaps of an index. */
export interface Sitemap {
  readonly pages: readonly string[];
  readonly sitemaps: readonly string[];
}

const most = 50_000;

/**
 * Reads a sitemap. Entities beyond those of XML itself are not resolved.
 * @returns undefined where it is none
 */
export function readSitemap(xml: string): Sitemap | undefined {
  const document = parseXml(xml);
  const places = (of: unknown, name: string) =>
    listOf(record(of)[name])
      .map(one => record(one).loc)
      .filter(loc => typeof loc === 'string')
      .slice(0, most);
  if (document?.urlset !== undefined) return { pages: places(document.urlset, 'url'), sitemaps: [] };
  if (document?.sitemapindex !== undefined)
    return { pages: [], sitemaps: places(document.sitemapindex, 'sitemap') };
  return undefined;
}

/** Where the entries of a feed lead (RSS 2.0, RFC 4287), and the feed's own title. */
export interface Feed {
  readonly title: string;
  readonly links: readonly string[];
}

/** Reads a feed. @returns undefined where it is none */
export function readFeed(xml: string): Feed | undefined {
  const document = parseXml(xml);
  if (document?.rss !== undefined) {
    const channel = record(record(document.rss).channel);
    const links = [channel, ...listOf(channel.item).map(record)].map(({ link }) => listOf(link)[0]);
    return {
      title: String(channel.title ?? ''),
      links: links.filter(link => typeof link === 'string').slice(0, most),
    };
  }
  if (document?.feed === undefined) return undefined;
  const feed = record(document.feed);
  const links = [feed, ...listOf(feed.entry).map(record)].flatMap(({ link }) =>
    listOf(link).map(one => record(one)['@href']),
  );
  return { title: textOf(feed.title), links: links.filter(link => typeof link === 'string').slice(0, most) };
}

function parseXml(xml: string): Record<string, unknown> | undefined {
  const parser = new XMLParser({
    ignoreAttributes: false,
    attributeNamePrefix: '@',
    removeNSPrefix: true,
    parseTagValue: false,
    processEntities: false,
    trimValues: true,
    tagValueProcessor: (_name, value) => decoded(value),
    attributeValueProcessor: (_name, value) => decoded(value),
  });
  try {
    return record(parser.parse(xml));
  } catch {
    return undefined;
  }
}

const entities: Readonly<Record<string, string>> = { amp: '&', lt: '<', gt: '>', quot: '"', apos: "'" };

function decoded(text: string): string {
  return text.replace(
    /&(?:#(\d{1,7})|#x([0-9a-f]{1,6})|(amp|lt|gt|quot|apos));/gi,
    (whole, decimal, hex, name) => {
      if (name) return entities[name.toLowerCase()]!;
      const code = Number.parseInt(decimal ?? hex, decimal ? 10 : 16);
      return code > 0 && code <= 0x10ffff ? String.fromCodePoint(code) : whole;
    },
  );
}

function listOf(value: unknown): unknown[] {
  return value === undefined ? [] : Array.isArray(value) ? value : [value];
}

function record(value: unknown): Record<string, unknown> {
  return typeof value === 'object' && value !== null ? (value as Record<string, unknown>) : {};
}

function textOf(value: unknown): string {
  return typeof value === 'string' ? value : String(record(value)['#text'] ?? '');
}

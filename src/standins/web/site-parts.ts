import type { SiteContent } from './web-pages.js';

/** What a stand-in site answers besides its pages. */
export interface SitePart {
  readonly type: string;
  readonly body: string;
}

/** Its sitemaps, feed, search and programming interface, as the CMS has them; undefined for anything else. */
export function sitePart(content: SiteContent, path: string): SitePart | undefined {
  switch (path.replace(/\/$/, '')) {
    case 'wp-sitemap.xml':
      return xml(
        `<sitemapindex xmlns="${sitemaps}"><sitemap><loc>${content.home}/wp-sitemap-posts-1.xml</loc></sitemap></sitemapindex>`,
      );
    case 'wp-sitemap-posts-1.xml':
      return xml(
        `<urlset xmlns="${sitemaps}">${published(content)
          .map(({ post_name }) => `<url><loc>${content.home}/${post_name}/</loc></url>`)
          .join('')}</urlset>`,
      );
    case 'feed':
      return { ...xml(feed(content)), type: 'application/rss+xml; charset=utf-8' };
    case 'wp-json':
      return {
        type: 'application/json; charset=utf-8',
        body: JSON.stringify({
          name: content.name,
          url: content.site,
          home: content.home,
          namespaces: ['oembed/1.0', 'wp/v2'],
          routes: { '/': {}, '/wp/v2/posts': {}, '/wp/v2/pages': {} },
        }),
      };
    default:
      return undefined;
  }
}

const sitemaps = 'http://www.sitemaps.org/schemas/sitemap/0.9';

/** What robots are asked (RFC 9309), at the root of the host. @param mount where the site is, without a closing slash */
export function robotsTxt(content: SiteContent, mount: string): SitePart {
  return {
    type: 'text/plain; charset=utf-8',
    body: `User-agent: *\nDisallow: ${mount}/wp-admin/\n\nSitemap: ${content.home}/wp-sitemap.xml\n`,
  };
}

function published({ posts }: SiteContent): SiteContent['posts'] {
  return posts.filter(
    ({ post_status, post_type }) =>
      post_status === 'publish' && (post_type === 'post' || post_type === 'page'),
  );
}

function feed(content: SiteContent): string {
  const items = published(content)
    .slice(0, 10)
    .map(
      post =>
        `<item><title>${escaped(post.post_title!)}</title><link>${content.home}/${post.post_name}/</link></item>`,
    );
  return `<rss version="2.0"><channel><title>${escaped(content.name)}</title><link>${content.home}</link>${items.join('')}</channel></rss>`;
}

function xml(body: string): SitePart {
  return {
    type: 'application/xml; charset=utf-8',
    body: `<?xml version="1.0" encoding="UTF-8"?>\n${body}\n`,
  };
}

function escaped(text: string): string {
  return text.replaceAll('&', '&amp;').replaceAll('<', '&lt;');
}

import { randomBytes } from 'node:crypto';
import { StandinDatabase } from '../database.js';

type Row = Record<string, string>;

/** What the stand-in site draws its pages from, read from the tables of the CMS. */
export interface SiteContent {
  readonly home: string;
  readonly site: string;
  readonly name: string;
  readonly tagline: string;
  readonly hidden: boolean;
  readonly perPage: number;
  readonly posts: readonly Row[];
  readonly menu: readonly { readonly title: string; readonly url: string }[];
  /** HTML of each widget; one whose option cannot be read is not shown. */
  readonly widgets: readonly { readonly title: string; readonly html: string }[];
  readonly meta: ReadonlyMap<string, Row>;
  readonly comments: readonly Row[];
  readonly headerImage: string | undefined;
}

/** Reads the content of a site from its database, under a table prefix. */
export function siteContent(database: StandinDatabase, prefix: string): SiteContent {
  const rows = (name: string) => database.rows(prefix + name);
  const options = new Map(rows('options').map(row => [row.option_name, row.option_value ?? '']));
  const option = (name: string) => options.get(name) ?? '';
  const posts = rows('posts');
  const meta = new Map<string, Row>();
  for (const { post_id, meta_key, meta_value } of rows('postmeta')) {
    meta.set(post_id!, { ...meta.get(post_id!), [meta_key!]: meta_value! });
  }
  const mods = record(StandinDatabase.decode(option(`theme_mods_${option('stylesheet')}`)));
  const widgetText = record(StandinDatabase.decode(option('widget_text')));
  const sidebar = record(record(StandinDatabase.decode(option('sidebars_widgets')))['sidebar-1']);
  return {
    home: option('home'),
    site: option('siteurl'),
    name: option('blogname'),
    tagline: option('blogdescription'),
    hidden: option('blog_public') === '0',
    perPage: Number(option('posts_per_page')) || 10,
    posts: posts.filter(post => post.post_status === 'publish' && ['post', 'page'].includes(post.post_type!)),
    menu: posts
      .filter(post => post.post_type === 'nav_menu_item')
      .map(post => ({ title: post.post_title!, url: meta.get(post.ID!)?._menu_item_url ?? '' })),
    widgets: Object.values(sidebar)
      .map(id => record(widgetText[String(id).replace('text-', '')]))
      .filter(widget => typeof widget.text === 'string')
      .map(widget => ({ title: String(widget.title), html: String(widget.text) })),
    meta,
    comments: rows('comments'),
    headerImage: typeof mods.header_image === 'string' ? mods.header_image : undefined,
  };
}

function record(value: unknown): Record<string, unknown> {
  return typeof value === 'object' && value !== null ? (value as Record<string, unknown>) : {};
}

/** Draws the page at a path below the home address; undefined where there is none. */
export function drawPage(content: SiteContent, path: string, search = ''): string | undefined {
  const words = new URLSearchParams(search).get('s');
  if (path === '' && words !== null) return searchPage(content, words);
  if (path === 'wp-login.php') return loginPage(content);
  if (path === 'wp-admin') return administration(content);
  if (path === '') {
    const latest = content.posts.filter(post => post.post_type === 'post').slice(0, content.perPage * 4);
    const list = latest.map(
      post => `<li><a href="${content.home}/${post.post_name}/">${escapeHtml(post.post_title!)}</a></li>`,
    );
    return frame(content, content.name, `<h2>News from the creek</h2><ul>${list.join('')}</ul>`);
  }
  const post = content.posts.find(one => one.post_name === path);
  if (!post) return undefined;
  const layout = content.meta.get(post.ID!)?._layout_data;
  const replies = content.comments
    .filter(comment => comment.comment_post_ID === post.ID)
    .map(
      comment =>
        `<blockquote>${comment.comment_content} — ${escapeHtml(comment.comment_author!)}</blockquote>`,
    );
  const title = escapeHtml(post.post_title!);
  const body = `<h2>${title}</h2>${layout ? drawLayout(layout) : ''}${post.post_content}${replies.join('')}`;
  return frame(content, `${post.post_title} – ${content.name}`, body, `${path}/`);
}

function drawLayout(json: string): string {
  interface Block {
    settings?: { heading?: string; image?: { url?: string }; link?: string };
    children?: { html?: string }[];
  }
  let blocks: Block[];
  try {
    blocks = JSON.parse(json);
  } catch {
    return '';
  }
  return blocks
    .map(({ settings, children }) => {
      const inner = children?.map(child => child.html ?? '').join('') ?? '';
      if (!settings) return `<div>${inner}</div>`;
      const image = `<img src="${settings.image?.url ?? ''}" alt="">`;
      return `<section><h3>${escapeHtml(settings.heading ?? '')}</h3><a href="${settings.link ?? ''}">${image}</a>${inner}</section>`;
    })
    .join('');
}

/** @param path of the page, below the home address */
function frame(content: SiteContent, title: string, body: string, path = ''): string {
  const address = `${content.home}/${path}`;
  const menu = content.menu
    .map(({ title: text, url }) => `<a href="${url}">${escapeHtml(text)}</a>`)
    .join('');
  const widgets = content.widgets
    .map(({ title: text, html }) => `<section><h4>${escapeHtml(text)}</h4>${html}</section>`)
    .join('');
  const style = content.headerImage
    ? ` style="background-image:linear-gradient(#1238,#1238),url(${content.headerImage})"`
    : '';
  return `<!doctype html>
<html lang="en"><head><meta charset="utf-8"><title>${escapeHtml(title)}</title>
<meta name="description" content="${escapeHtml(content.tagline)}"><meta property="og:url" content="${address}">
<link rel="canonical" href="${address}"><link rel="alternate" hreflang="en" href="${address}">
<link rel="alternate" type="application/rss+xml" title="News" href="${content.home}/feed/">
<link rel="stylesheet" href="${content.site}/wp-content/themes/creek/style.css">
<link rel="stylesheet" href="${content.site}/wp-content/uploads/creek/generated.css">
${content.hidden ? '<meta name="robots" content="noindex">' : ''}</head>
<body><header${style}><h1>${escapeHtml(content.name)}</h1><p>${escapeHtml(content.tagline)}</p><nav>${menu}</nav></header>
<main><article>${body}</article><aside>${searchForm(content)}${widgets}</aside></main>
<footer data-token="${randomBytes(8).toString('hex')}"><a href="${content.site}/wp-login.php">Log in</a></footer></body></html>
`;
}

function searchForm({ home }: SiteContent): string {
  return `<form role="search" action="${home}/" method="get"><label>Search <input name="s" type="search"></label><button>Search</button></form>`;
}

function searchPage(content: SiteContent, words: string): string {
  const found = content.posts.filter(({ post_title, post_content, post_name }) => {
    const text = `${post_title} ${post_content}`.toLowerCase();
    return post_name !== '' && text.includes(words.toLowerCase());
  });
  const list = found
    .slice(0, 20)
    .map(post => `<li><a href="${content.home}/${post.post_name}/">${escapeHtml(post.post_title!)}</a></li>`);
  return frame(
    content,
    `Search for ${words} – ${content.name}`,
    `<h2>Search for ${escapeHtml(words)}</h2><ul>${list.join('')}</ul>`,
    `?s=${encodeURIComponent(words)}`,
  );
}

/** What its keepers see once they are logged in. */
function administration(content: SiteContent): string {
  return `<!doctype html><html lang="en"><head><meta charset="utf-8"><title>Dashboard ‹ ${escapeHtml(content.name)}</title></head>
<body><h1>Dashboard</h1><p>${content.posts.length} entries</p><a href="${content.site}/wp-login.php?action=logout">Log out</a></body></html>
`;
}

function loginPage(content: SiteContent): string {
  return `<!doctype html><html><head><meta charset="utf-8"><title>Log In ‹ ${escapeHtml(content.name)}</title></head>
<body class="login"><h1><a href="${content.home}/">${escapeHtml(content.name)}</a></h1>
<form action="${content.site}/wp-login.php" method="post"><label>Username <input name="log"></label>
<label>Password <input name="pwd" type="password"></label><button>Log In</button></form></body></html>
`;
}

function escapeHtml(text: string): string {
  return text.replaceAll('&', '&amp;').replaceAll('<', '&lt;').replaceAll('"', '&quot;');
}

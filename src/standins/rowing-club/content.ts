import { textOf } from '../../core/bytes.js';
import { type Encodable, encodeSerialized } from '../../core/serialized/encode.js';
import { boats, members, pages, regattas, tides } from './words.js';

/** The addresses that the club's data is written with. */
export interface ClubPlace {
  /** `https://club.saltmarsh.example/site` */
  readonly address: string;
  /** A temporary host at which the site was once built. */
  readonly temporary: string;
  readonly prefix: string;
  /** The club's name; left out, the Saltmarsh Rowing Club's. */
  readonly title?: string;
}

/** A row by column; columns left out take a fitting default. */
export type ClubRow = Record<string, string | number>;

export type ClubTables = Record<string, ClubRow[]>;

/** Makes all rows of the club's database, the same every time. */
export function clubTables(place: ClubPlace): ClubTables {
  const tables: ClubTables = {
    commentmeta: [],
    comments: [],
    links: [],
    options: [],
    postmeta: [],
    posts: [],
    term_relationships: [],
    term_taxonomy: [],
    termmeta: [],
    terms: [],
    usermeta: [],
    users: [],
  };
  new ClubWriter(place, tables).write();
  return tables;
}

const day = (n: number) =>
  `2025-${String(1 + (n % 12)).padStart(2, '0')}-${String(1 + ((n * 5) % 27)).padStart(2, '0')}`;

class ClubWriter {
  private readonly place: ClubPlace;
  private readonly tables: ClubTables;
  private nextPost = 1;

  constructor(place: ClubPlace, tables: ClubTables) {
    this.place = place;
    this.tables = tables;
  }

  write(): void {
    this.users();
    this.pictures();
    this.pages();
    this.posts();
    this.menu();
    this.comments();
    this.options();
  }

  private row(table: string, row: ClubRow): void {
    this.tables[table]!.push(row);
  }

  private post(type: string, slug: string, title: string, content: string, more: ClubRow = {}): number {
    const id = this.nextPost++;
    const date = `${day(id)} 09:${String(id % 60).padStart(2, '0')}:00`;
    this.row('posts', {
      ID: id,
      post_author: 1 + (id % members.length),
      post_date: date,
      post_date_gmt: date,
      post_content: content,
      post_title: title,
      post_status: type === 'attachment' ? 'inherit' : 'publish',
      comment_status: 'open',
      ping_status: 'closed',
      post_name: slug,
      post_modified: date,
      post_modified_gmt: date,
      guid: `${this.place.address}/?p=${id}`,
      post_type: type,
      ...more,
    });
    return id;
  }

  private meta(post: number, key: string, value: string): void {
    this.row('postmeta', {
      meta_id: this.tables.postmeta!.length + 1,
      post_id: post,
      meta_key: key,
      meta_value: value,
    });
  }

  private users(): void {
    const { prefix, address } = this.place;
    members.forEach((name, i) => {
      const id = i + 1;
      const login = name
        .split(' ')[0]!
        .normalize('NFD')
        .replace(/[^A-Za-z]/g, '')
        .toLowerCase();
      this.row('users', {
        ID: id,
        user_login: login,
        user_pass: '$P$Bmadeupmadeupmadeupmadeupmadeupma',
        user_nicename: login,
        user_email: `${login}@club.saltmarsh.example`,
        user_url: i === 0 ? `${address}/committee/` : '',
        user_registered: `${day(i)} 08:00:00`,
        display_name: name,
      });
      const meta = (key: string, value: string) =>
        this.row('usermeta', {
          umeta_id: this.tables.usermeta!.length + 1,
          user_id: id,
          meta_key: key,
          meta_value: value,
        });
      meta('nickname', name);
      meta(`${prefix}capabilities`, serialized({ [i === 0 ? 'administrator' : 'author']: true }));
      meta(`${prefix}user_level`, i === 0 ? '10' : '2');
      meta(
        'session_tokens',
        serialized({ a1b2: { expiration: 1760000000, ip: '192.0.2.44', ua: 'made-up browser' } }),
      );
    });
  }

  private pictures(): void {
    boats.forEach(([name], i) => {
      const file = `2025/0${1 + (i % 6)}/${slugOf(name)}.png`;
      const id = this.post('attachment', slugOf(name), name, '', {
        post_mime_type: 'image/png',
        guid: `${this.place.address}/wp-content/uploads/${file}`,
      });
      this.meta(id, '_wp_attached_file', file);
      this.meta(id, '_wp_attachment_metadata', serialized({ width: 640, height: 360, file, sizes: {} }));
    });
  }

  private pages(): void {
    const { address, temporary } = this.place;
    pages.forEach(([slug, title, text], i) => {
      const [next] = pages[(i + 1) % pages.length]!;
      const boat = slugOf(boats[i % boats.length]![0]);
      const month = 1 + ((i % boats.length) % 6);
      const image = `${address}/wp-content/uploads/2025/0${month}/${boat}.png`;
      const links =
        i % 4 === 0
          ? `<p><a href="${temporary}/${slug}/">Older notes</a> <img src="${temporary}/wp-content/uploads/2025/0${month}/${boat}.png" alt=""></p>`
          : '';
      const id = this.post(
        'page',
        slug,
        title,
        `<!-- wp:paragraph -->\n<p>${text}</p>\n<!-- /wp:paragraph -->\n<!-- wp:image {"url":"${image.replaceAll('/', '\\/')}"} -->\n<img src="${image}" alt="${title}"/>\n<!-- /wp:image -->\n<p>Next: <a href="${address}/${next}/">${pages[(i + 1) % pages.length]![1]}</a>. It’s our creek's own “tide”.</p>${links}`,
      );
      const layout = [
        {
          type: 'hero',
          settings: {
            heading: `${title} – Saltmarsh`,
            image: { id: 1 + (i % 8), url: image },
            link: `${address}/${next}/`,
          },
        },
        {
          type: 'columns',
          children: [{ type: 'text', html: `<p>“${text}” <a href="${address}/contact/">Ask us</a></p>` }],
        },
      ];
      this.meta(id, '_layout_data', JSON.stringify(layout).replaceAll('/', '\\/'));
      this.meta(
        id,
        '_layout_settings',
        serialized({ background: { url: image, position: 'top' }, css: `.p{background:url("${image}")}` }),
      );
    });
  }

  private posts(): void {
    const { address } = this.place;
    const share = (slug: string) => `https://share.example/?u=${encodeURIComponent(`${address}/${slug}/`)}`;
    regattas.forEach(([name, text], i) => {
      const slug = slugOf(name);
      const [boat] = boats[i % boats.length]!;
      const id = this.post(
        'post',
        slug,
        name,
        `<p>${text}</p>\n<p>We took out <a href="${address}/${slugOf(boat)}/">${boat}</a>. <a href="${share(slug)}">Tell others</a>.</p>\n[gallery ids="1,2,3"]`,
      );
      this.meta(
        id,
        '_results',
        serialized({
          crews: [`Saltmarsh “A”`, 'Fenwick Staithe'],
          link: `${address}/${slug}/#results`,
          note: 'Zeit: 7′12″',
        }),
      );
    });
    boats.forEach(([name, kind, text], i) => {
      const image = `${address}/wp-content/uploads/2025/0${1 + (i % 6)}/${slugOf(name)}.png`;
      this.post(
        'post',
        slugOf(name),
        `${name}, our ${kind}`,
        `<p>${text}</p>\n<p><a href="${image}"><img src="${image}" alt="${name}"></a></p>`,
      );
    });
    tides.forEach((month, i) => {
      const times = Array.from(
        { length: 6 },
        (_, n) =>
          `${4 + ((n * 5 + i) % 9)}:${String((n * 13 + i * 7) % 60).padStart(2, '0')} ${(3.1 + ((n + i) % 7) / 5).toFixed(1)} m`,
      );
      this.post(
        'post',
        `tides-${month.toLowerCase()}`,
        `Tides in ${month}`,
        `<p>High water at the steps: ${times.join(', ')}.</p>\n<p>All months: <a href='${address}/tide-tables/'>tide tables</a></p>`,
      );
    });
    for (let week = 1; week <= 12; week++) {
      this.post(
        'post',
        `week-${week}`,
        `Creek diary, week ${week}`,
        `<p>${members[week % members.length]} writes: the ${boats[week % boats.length]![0]} is back on the rack. Pictures at //${address.replace(/^https?:\/\//, '')}/gallery/ as ever.</p>`,
      );
    }
  }

  private menu(): void {
    const { address } = this.place;
    this.row('terms', { term_id: 1, name: 'News', slug: 'news', term_group: 0 });
    this.row('terms', { term_id: 2, name: 'Main menu', slug: 'main-menu', term_group: 0 });
    this.row('term_taxonomy', { term_taxonomy_id: 1, term_id: 1, taxonomy: 'category', count: 44 });
    this.row('term_taxonomy', { term_taxonomy_id: 2, term_id: 2, taxonomy: 'nav_menu', count: 6 });
    pages.slice(0, 6).forEach(([slug, title], i) => {
      const id = this.post('nav_menu_item', `menu-${slug}`, title, '', { menu_order: i + 1 });
      this.meta(id, '_menu_item_type', 'custom');
      this.meta(id, '_menu_item_url', `${address}/${slug}/`);
      this.row('term_relationships', { object_id: id, term_taxonomy_id: 2, term_order: 0 });
    });
  }

  private comments(): void {
    const posts = this.tables.posts!.filter(post => post.post_type === 'post');
    for (let i = 0; i < 24; i++) {
      const post = posts[i % posts.length]!;
      const name = members[i % members.length]!;
      this.row('comments', {
        comment_ID: i + 1,
        comment_post_ID: post.ID!,
        comment_author: name,
        comment_author_email: 'someone@mail.example',
        comment_author_url: i % 5 === 0 ? this.place.address : '',
        comment_author_IP: '203.0.113.7',
        comment_date: `${day(i)} 18:30:00`,
        comment_date_gmt: `${day(i)} 17:30:00`,
        comment_content:
          i % 3 === 0 ? `See ${this.place.address}/safety/. Mind the ebb!` : 'Well rowed, all of you 🚣',
        comment_approved: '1',
        comment_type: 'comment',
      });
    }
  }

  private options(): void {
    const { address, prefix, temporary } = this.place;
    const option = (name: string, value: string | Encodable) =>
      this.row('options', {
        option_id: this.tables.options!.length + 1,
        option_name: name,
        option_value: typeof value === 'string' ? value : serialized(value),
        autoload: 'yes',
      });
    const logo = `${address}/wp-content/uploads/2025/01/curlew.png`;
    option('siteurl', address);
    option('home', address);
    option('blogname', this.place.title ?? 'Saltmarsh Rowing Club');
    option('blogdescription', 'On the creek since the ferry stopped');
    option('admin_email', 'secretary@club.saltmarsh.example');
    option('permalink_structure', '/%postname%/');
    option('posts_per_page', '12');
    option('blog_public', '1');
    option('template', 'creek');
    option('stylesheet', 'creek');
    option('active_plugins', ['contact-desk/contact-desk.php', 'page-cache/page-cache.php']);
    option(`${prefix}user_roles`, {
      administrator: { name: 'Administrator', capabilities: { switch_themes: true, edit_posts: true } },
    });
    option('sidebars_widgets', { 'sidebar-1': ['text-1', 'text-2', 'text-3'], array_version: 3 });
    option('widget_text', {
      1: {
        title: 'Heute am Steg – today at the steps',
        text: `<p>Flut 14:20 Uhr. <a href="${address}/tide-tables/">Alle Gezeiten</a> ⚓</p>`,
        filter: true,
      },
      2: {
        title: 'Join',
        text: `<p><a href="${address}/join-us/"><img src="${logo}" alt="Curlew"></a></p>`,
        filter: true,
      },
      3: {
        title: 'Łódź dnia',
        text: `<p>„Avocet” – <a href="${address}/avocet/">zobacz</a></p>`,
        filter: true,
      },
      _multiwidget: 1,
    });
    option('theme_mods_creek', {
      custom_logo: 1,
      nav_menu_locations: { primary: 2 },
      header_image: logo,
      colours: {
        water: '#2b5d6b',
        nested: { deep: { deeper: [`${address}/a`, `${address}/b`, null, 1.5, true] } },
      },
    });
    const headCode = `<link rel="me" href="${address}/contact/">`;
    option('creek_head_code', Buffer.from(headCode).toString('base64'));
    option('creek_layouts', {
      cached: serialized({ hero: { image: logo, json: JSON.stringify({ url: `${address}/gallery/` }) } }),
    });
    option('creek_import_log', `Imported from ${temporary} on 2024-11-02`);
    option('creek_broken', `a:1:{s:4:"logo";s:10:"${logo}";}`);
    option('rewrite_rules', { '(.?.+?)/?$': 'index.php?pagename=$matches[1]' });
    option('_transient_creek_feed', `<a href="${address.replaceAll('/', '&#x2F;')}">feed</a>`);
  }
}

function serialized(value: Encodable): string {
  return textOf(encodeSerialized(value));
}

/** A title as the CMS would write it into an address. */
export function slugOf(title: string): string {
  return title
    .normalize('NFD')
    .replace(/[^\w\s-]/g, '')
    .trim()
    .toLowerCase()
    .replace(/\s+/g, '-');
}

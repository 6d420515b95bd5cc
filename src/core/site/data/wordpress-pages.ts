import type { DataPage, PageReader } from './page-reader.js';
import { cell, type FigureRow, type FigureTables } from './site-figures.js';

interface Entry {
  readonly id: string;
  readonly type: string;
  readonly name: string;
  readonly parent: string;
  readonly author: string;
  /** `2019-05-03 18:00:00` */
  readonly date: string;
}

interface Term {
  readonly slug: string;
  readonly taxonomy: string;
  readonly parent: string;
}

const inside = /^(?:revision|nav_menu_item|custom_css|customize_changeset|oembed_cache|user_request|wp_\w+)$/;

/**
 * The pages of a WordPress site: by their numbers, and by the structure of its permalinks
 * (https://wordpress.org/documentation/article/customize-permalinks/), with former slugs, files of the library, terms, authors
 * and feeds. Types of entries that extensions add have structures of their own; they are known by their numbers.
 */
export class WordpressPages implements PageReader {
  readonly tables: FigureTables = {
    options: ['option_name', 'option_value'],
    posts: ['ID', 'post_type', 'post_status', 'post_name', 'post_parent', 'post_author', 'post_date'],
    postmeta: ['post_id', 'meta_key', 'meta_value'],
    terms: ['term_id', 'slug'],
    term_taxonomy: ['term_taxonomy_id', 'term_id', 'taxonomy', 'parent'],
    term_relationships: ['object_id', 'term_taxonomy_id'],
    users: ['ID', 'user_nicename'],
  };
  private readonly options = new Map<string, string>();
  private readonly entries = new Map<string, Entry>();
  private readonly formerNames: { readonly id: string; readonly name: string }[] = [];
  private readonly files: string[] = [];
  private readonly slugs = new Map<string, string>();
  private readonly taxonomies = new Map<
    string,
    { readonly term: string; readonly taxonomy: string; readonly parent: string }
  >();
  /** Of an entry, the numbers of its terms. */
  private readonly termsOf = new Map<string, string[]>();
  private readonly authors = new Map<string, string>();

  row(table: string, row: FigureRow): void {
    const of = (name: string) => cell(row, name);
    switch (table) {
      case 'options':
        if (
          /^(?:permalink_structure|category_base|tag_base|page_on_front|page_for_posts)$/.test(
            of('option_name'),
          )
        )
          this.options.set(of('option_name'), of('option_value'));
        break;
      case 'posts': {
        const isThere =
          of('post_status') === 'publish' ||
          (of('post_type') === 'attachment' && of('post_status') === 'inherit');
        if (!isThere || inside.test(of('post_type'))) break;
        this.entries.set(of('ID'), {
          id: of('ID'),
          type: of('post_type'),
          name: of('post_name'),
          parent: of('post_parent'),
          author: of('post_author'),
          date: of('post_date'),
        });
        break;
      }
      case 'postmeta':
        if (of('meta_key') === '_wp_old_slug')
          this.formerNames.push({ id: of('post_id'), name: of('meta_value') });
        if (of('meta_key') === '_wp_attached_file') this.files.push(of('meta_value'));
        break;
      case 'terms':
        this.slugs.set(of('term_id'), of('slug'));
        break;
      case 'term_taxonomy':
        this.taxonomies.set(of('term_taxonomy_id'), {
          term: of('term_id'),
          taxonomy: of('taxonomy'),
          parent: of('parent'),
        });
        break;
      case 'term_relationships': {
        const list = this.termsOf.get(of('object_id')) ?? [];
        list.push(of('term_taxonomy_id'));
        this.termsOf.set(of('object_id'), list);
        break;
      }
      default:
        this.authors.set(of('ID'), of('user_nicename'));
    }
  }

  result(): DataPage[] {
    const pages: DataPage[] = [];
    const add = (page: string | undefined, source: DataPage['source'] = 'data') => {
      if (page !== undefined) pages.push({ page, source });
    };
    add('/');
    for (const entry of this.entries.values()) {
      add(numbered(entry));
      add(this.permalink(entry));
    }
    for (const { id, name } of this.formerNames) {
      const entry = this.entries.get(id);
      if (entry) add(this.permalink({ ...entry, name }));
    }
    for (const file of this.files) add(`/wp-content/uploads/${file}`);
    for (const term of this.terms()) for (const page of this.termPages(term)) add(page);
    const hasPermalinks = this.structure !== '';
    if (hasPermalinks)
      for (const name of new Set(
        [...this.entries.values()]
          .filter(({ type }) => type === 'post')
          .map(({ author }) => this.authors.get(author)),
      ))
        if (name) add(`${this.front}author/${name}/`);
    for (const feed of hasPermalinks ? ['/feed/', '/comments/feed/', '/?feed=rss2'] : ['/?feed=rss2'])
      add(feed, 'feed');
    return pages;
  }

  private get structure(): string {
    return this.options.get('permalink_structure') ?? '';
  }

  /** What every permalink that is not a page's begins with. */
  private get front(): string {
    return this.structure.slice(0, this.structure.indexOf('%')) || '/';
  }

  private permalink(entry: Entry): string | undefined {
    const { structure } = this;
    if (structure === '' || entry.name === '') return undefined;
    const end = structure.endsWith('/') ? '/' : '';
    if (entry.type === 'page') {
      if (entry.id === this.options.get('page_on_front')) return '/';
      return `${indexPrefix(structure)}/${this.pathOf(entry)}${end}`;
    }
    if (entry.type !== 'post') return undefined;
    const [year, month, day, hour, minute, second] = entry.date.split(/\D/);
    const values: Record<string, string | undefined> = {
      year,
      monthnum: month,
      day,
      hour,
      minute,
      second,
      post_id: entry.id,
      postname: entry.name,
      category: this.categoryOf(entry),
      author: this.authors.get(entry.author),
    };
    let isKnown = true;
    const path = structure.replace(/%(\w+)%/g, (_, tag) => {
      isKnown &&= values[tag] !== undefined;
      return values[tag] ?? '';
    });
    return isKnown ? path : undefined;
  }

  /** The names of a page and those above it. */
  private pathOf(entry: Entry): string {
    const names = [entry.name];
    for (
      let above = this.entries.get(entry.parent);
      above && names.length < 20;
      above = this.entries.get(above.parent)
    )
      names.unshift(above.name);
    return names.join('/');
  }

  /** The category in a permalink: of several, the one with the lowest number. */
  private categoryOf({ id }: Entry): string {
    const [first] = (this.termsOf.get(id) ?? [])
      .map(number => this.taxonomies.get(number))
      .filter(one => one?.taxonomy === 'category')
      .sort((a, b) => Number(a!.term) - Number(b!.term));
    return first ? this.termPath({ ...first, slug: this.slugs.get(first.term) ?? '' }) : 'uncategorized';
  }

  /** The terms that entries have. */
  private terms(): (Term & { readonly id: string })[] {
    const used = new Set([...this.entries.keys()].flatMap(id => this.termsOf.get(id) ?? []));
    return [...this.taxonomies]
      .filter(([number]) => used.has(number))
      .map(([, { term, taxonomy, parent }]) => ({
        id: term,
        taxonomy,
        parent,
        slug: this.slugs.get(term) ?? '',
      }));
  }

  private termPages({ id, slug, taxonomy, parent }: Term & { readonly id: string }): string[] {
    if (slug === '' || (taxonomy !== 'category' && taxonomy !== 'post_tag')) return [];
    const isCategory = taxonomy === 'category';
    const number = isCategory ? `/?cat=${id}` : `/?tag=${slug}`;
    if (this.structure === '') return [number];
    const base =
      this.options.get(isCategory ? 'category_base' : 'tag_base') || (isCategory ? 'category' : 'tag');
    const path = isCategory ? this.termPath({ slug, taxonomy, parent }) : slug;
    const page = `${this.front}${base.replace(/^\/|\/$/g, '')}/${path}/`;
    return [number, page, `${page}feed/`];
  }

  private termPath({ slug, taxonomy, parent }: Term): string {
    const names = [slug];
    for (let above = parent; above !== '0' && above !== '' && names.length < 20; ) {
      names.unshift(this.slugs.get(above) ?? '');
      const term = above;
      above =
        [...this.taxonomies.values()].find(one => one.term === term && one.taxonomy === taxonomy)?.parent ??
        '0';
    }
    return names.join('/');
  }
}

/** `/index.php`, where a host without rewriting has it in every permalink. */
function indexPrefix(structure: string): string {
  return structure.startsWith('/index.php/') ? '/index.php' : '';
}

function numbered({ id, type }: Entry): string {
  if (type === 'post') return `/?p=${id}`;
  if (type === 'page') return `/?page_id=${id}`;
  if (type === 'attachment') return `/?attachment_id=${id}`;
  return `/?post_type=${type}&p=${id}`;
}

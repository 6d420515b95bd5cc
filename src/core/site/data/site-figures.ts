import { type ByteString, textOf } from '../../bytes.js';
import { decodeSerialized } from '../../serialized/decode.js';

/** What the data of a site says of it: what is switched on, what comes first, and how much is published. */
export interface SiteFigures {
  readonly extensions: readonly string[];
  readonly theme: string | undefined;
  readonly frontPage: string | undefined;
  /** How many of each kind visitors can see. */
  readonly published: Readonly<Record<string, number>>;
  /** Addresses by which the program knows its pages, below the site's own. */
  readonly pages: readonly string[];
}

/** The cells of a row by their columns. */
export type FigureRow = Readonly<Record<string, ByteString | null>>;

/** The tables of a family that say so, without prefix, each with the columns that are read. */
export type FigureTables = Readonly<Record<string, readonly string[]>>;

type Building = {
  extensions: string[];
  theme?: string | undefined;
  frontPage?: string | undefined;
  published: Record<string, number>;
  pages: string[];
};

interface FamilyFigures {
  readonly tables: FigureTables;
  read(figures: Building, table: string, row: FigureRow): void;
}

const mostPages = 100_000;

/** Gathers the figures of a site from the rows of its tables. */
export class FigureReader {
  readonly tables: FigureTables;
  private readonly figures: Building = { extensions: [], published: {}, pages: [] };
  private readonly family: FamilyFigures | undefined;

  /** @param family its name; of one whose tables are not known there is nothing to read */
  constructor(family: string) {
    this.family = byFamily[family];
    this.tables = this.family?.tables ?? {};
  }

  /** @param table without prefix */
  row(table: string, row: FigureRow): void {
    this.family?.read(this.figures, table, row);
  }

  result(): SiteFigures {
    const { extensions, theme, frontPage, published, pages } = this.figures;
    return { extensions: extensions.sort(), theme, frontPage, published, pages };
  }
}

/** A cell as text; empty for none. */
export function cell(row: FigureRow, column: string): string {
  const value = row[column];
  return value === null || value === undefined ? '' : textOf(value);
}

function count(figures: Building, kind: string, page: string | undefined): void {
  figures.published[kind] = (figures.published[kind] ?? 0) + 1;
  if (page !== undefined && figures.pages.length < mostPages) figures.pages.push(page);
}

/** https://developer.wordpress.org/apis/options/ and wp_posts */
const wordpress: FamilyFigures = {
  tables: { options: ['option_name', 'option_value'], posts: ['ID', 'post_type', 'post_status'] },
  read(figures, table, row) {
    if (table === 'posts') {
      const type = cell(row, 'post_type');
      const isInside =
        /^(?:revision|nav_menu_item|custom_css|customize_changeset|oembed_cache|user_request|wp_\w+)$/.test(
          type,
        );
      if (cell(row, 'post_status') !== 'publish' || isInside) return;
      const id = cell(row, 'ID');
      const known =
        type === 'post' ? `/?p=${id}` : type === 'page' ? `/?page_id=${id}` : `/?post_type=${type}&p=${id}`;
      return count(figures, type, known);
    }
    const value = cell(row, 'option_value');
    switch (cell(row, 'option_name')) {
      case 'active_plugins':
        figures.extensions.push(
          ...Object.values(decodeSerialized(row.option_value ?? ('' as ByteString)) ?? {}).map(String),
        );
        break;
      case 'stylesheet':
        figures.theme = value;
        break;
      case 'page_on_front':
        if (value !== '0' && value !== '') figures.frontPage = `page ${value}`;
        break;
      default:
    }
  },
};

/** https://docs.joomla.org/Tables */
const joomla: FamilyFigures = {
  tables: {
    extensions: ['element', 'type', 'enabled'],
    template_styles: ['template', 'client_id', 'home'],
    content: ['id', 'state'],
    menu: ['id', 'home', 'published', 'client_id'],
  },
  read(figures, table, row) {
    if (table === 'extensions' && cell(row, 'enabled') === '1' && cell(row, 'type') === 'plugin')
      figures.extensions.push(cell(row, 'element'));
    if (table === 'template_styles' && cell(row, 'client_id') === '0' && cell(row, 'home') === '1')
      figures.theme = cell(row, 'template');
    if (table === 'menu' && cell(row, 'home') === '1' && cell(row, 'client_id') === '0')
      figures.frontPage = `menu item ${cell(row, 'id')}`;
    if (table === 'content' && cell(row, 'state') === '1')
      count(figures, 'article', `/index.php?option=com_content&view=article&id=${cell(row, 'id')}`);
  },
};

/** https://www.drupal.org/docs/drupal-apis/configuration-api and node_field_data */
const drupal: FamilyFigures = {
  tables: {
    config: ['name', 'collection', 'data'],
    node_field_data: ['nid', 'type', 'status', 'default_langcode'],
  },
  read(figures, table, row) {
    if (table === 'node_field_data') {
      if (cell(row, 'status') === '1' && cell(row, 'default_langcode') !== '0')
        count(figures, cell(row, 'type'), `/node/${cell(row, 'nid')}`);
      return;
    }
    if (cell(row, 'collection') !== '') return;
    const data = () => (decodeSerialized(row.data ?? ('' as ByteString)) ?? {}) as Record<string, unknown>;
    const name = cell(row, 'name');
    if (name === 'core.extension') figures.extensions.push(...Object.keys((data().module as object) ?? {}));
    if (name === 'system.theme') figures.theme = String(data().default ?? '');
    if (name === 'system.site')
      figures.frontPage = String((data().page as Record<string, unknown> | undefined)?.front ?? '');
  },
};

/** https://www.mediawiki.org/wiki/Manual:Page_table */
const mediawiki: FamilyFigures = {
  tables: { page: ['page_id', 'page_namespace', 'page_is_redirect'] },
  read(figures, _table, row) {
    if (cell(row, 'page_is_redirect') === '1') return;
    const space = cell(row, 'page_namespace');
    count(
      figures,
      `page of namespace ${space}`,
      space === '0' ? `/index.php?curid=${cell(row, 'page_id')}` : undefined,
    );
  },
};

const byFamily: Readonly<Record<string, FamilyFigures>> = { wordpress, joomla, drupal, mediawiki };

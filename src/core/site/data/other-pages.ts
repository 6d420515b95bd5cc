import type { DataPage, PageReader } from './page-reader.js';
import { cell, type FigureRow, type FigureTables } from './site-figures.js';

/** A reader whose rows each name their own addresses. */
function readerOf(
  tables: FigureTables,
  pagesOf: (table: string, of: (column: string) => string) => readonly string[],
  feeds: readonly string[],
): PageReader {
  const pages: DataPage[] = [
    { page: '/', source: 'data' },
    ...feeds.map(page => ({ page, source: 'feed' as const })),
  ];
  return {
    tables,
    row: (table: string, row: FigureRow) => {
      const found = pagesOf(table, column => cell(row, column));
      pages.push(...found.map(page => ({ page, source: 'data' as const })));
    },
    result: () => pages,
  };
}

/** Articles, categories and the paths of menus, with and without rewriting (https://docs.joomla.org/Tables). */
export function joomlaPages(): PageReader {
  return readerOf(
    {
      content: ['id', 'state', 'alias', 'catid'],
      categories: ['id', 'published', 'extension', 'path'],
      menu: ['path', 'published', 'client_id', 'home', 'type'],
    },
    (table, of) => {
      if (table === 'content')
        return of('state') === '1'
          ? [
              `/index.php?option=com_content&view=article&id=${of('id')}`,
              `/index.php?option=com_content&view=article&id=${of('id')}:${of('alias')}&catid=${of('catid')}`,
            ]
          : [];
      if (table === 'categories')
        return of('published') === '1' && of('extension') === 'com_content'
          ? [`/index.php?option=com_content&view=category&id=${of('id')}`]
          : [];
      const isPage =
        of('published') === '1' && of('client_id') === '0' && of('type') === 'component' && of('path') !== '';
      return isPage ? [`/index.php/${of('path')}`, `/${of('path')}`] : [];
    },
    ['/index.php?format=feed&type=rss'],
  );
}

/** Entries, terms and the other names of both (https://www.drupal.org/docs/drupal-apis/entity-api). */
export function drupalPages(): PageReader {
  return readerOf(
    {
      node_field_data: ['nid', 'status', 'default_langcode'],
      taxonomy_term_field_data: ['tid', 'status'],
      path_alias: ['alias', 'status'],
    },
    (table, of) => {
      if (table === 'node_field_data') return of('status') === '1' ? [`/node/${of('nid')}`] : [];
      if (table === 'taxonomy_term_field_data')
        return of('status') === '0' ? [] : [`/taxonomy/term/${of('tid')}`];
      return of('status') === '0' || !of('alias').startsWith('/') ? [] : [of('alias')];
    },
    ['/rss.xml'],
  );
}

/** Articles and categories (https://www.mediawiki.org/wiki/Manual:Page_table). */
export function mediawikiPages(): PageReader {
  const spaces: Readonly<Record<string, string>> = { '0': '', '14': 'Category:' };
  return readerOf(
    { page: ['page_id', 'page_namespace', 'page_title'] },
    (_table, of) => {
      const space = spaces[of('page_namespace')];
      if (space === undefined) return [];
      const title = `${space}${encodeURIComponent(of('page_title')).replace(/%(?:2F|3A|2C|3B|40|24)/g, decodeURIComponent)}`;
      return [`/index.php?curid=${of('page_id')}`, `/index.php/${title}`, `/index.php?title=${title}`];
    },
    ['/index.php?title=Special:RecentChanges&feed=atom'],
  );
}

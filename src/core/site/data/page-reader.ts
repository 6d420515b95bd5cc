import type { FigureRow, FigureTables } from './site-figures.js';

/** A page that the data of a site names. */
export interface DataPage {
  /** Below the site's address. */
  readonly page: string;
  readonly source: 'data' | 'feed';
}

/** Reads the addresses of pages from the rows of a family's tables. */
export interface PageReader {
  /** Without prefix, each with the columns that are read. */
  readonly tables: FigureTables;
  /** @param table without prefix */
  row(table: string, row: FigureRow): void;
  /** Every address under which what is published can be asked for. */
  result(): DataPage[];
}

import { stringify } from 'csv-stringify/sync';
import { requestTo, urlOf } from '../follow.js';
import { redirector } from '../redirect-of.js';
import type { RedirectDialect } from './dialect.js';

/** A plain list of whole URLs, for whoever's panel wants one (RFC 4180). */
export const csv = {
  name: 'csv',
  title: 'a list',
  serverHeader: /(?!)/,
  folder: 'csv',
  where: from => `Import redirects-list.csv in the panel of ${from.host}: old URL, new URL, status.`,
  files(set, pages) {
    const answers = redirector(set);
    const lines = pages.flatMap(page => {
      const url = urlOf(set, page);
      const answer = answers(requestTo(url));
      return answer ? [[url, answer.target ?? '', answer.status]] : [];
    });
    return [
      {
        path: 'redirects-list.csv',
        text: stringify([['from', 'to', 'status'], ...lines], { record_delimiter: '\r\n' }),
      },
    ];
  },
} as const satisfies RedirectDialect;

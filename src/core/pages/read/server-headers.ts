import { type Finding, finding } from '../../findings/findings.js';

/** What a web server's answer says of who gave it. */
export interface ServerHeaders {
  readonly server: string | undefined;
  readonly poweredBy: string | undefined;
  /** Headers by which a cache, proxy or delivery network in front of the server shows itself. */
  readonly between: readonly string[];
}

type Headers = Readonly<Record<string, string | readonly string[] | undefined>>;

/**
 * Reads who answered from the headers of an answer. What is between is reported by what its headers are for (RFC 9110
 * `Via`, RFC 9111 `Age`, RFC 9211 `Cache-Status`, and other headers that name a cache, an edge or a proxy).
 */
export function readServerHeaders(headers: Headers): ServerHeaders {
  const one = (name: string) => {
    const value = headers[name];
    return value === undefined ? undefined : String(value).slice(0, 80);
  };
  const between = Object.keys(headers)
    .filter(name => middlebox.test(name) && !/^(?:cache-control|x-cache-control)$/.test(name))
    .map(name => `${name}: ${one(name)}`);
  return { server: one('server'), poweredBy: one('x-powered-by'), between };
}

/** Headers that say that a cache, an edge or a proxy answers. */
const middlebox = /^(?:via|age|x-served-by|x-timer)$|cache|cdn|edge|proxy|varnish|(?:^|-)ray$/;

/** A page of the old site that every move begins with. */
export interface AskedPage {
  readonly which: 'home page' | 'login page';
  readonly url: string;
  readonly status: number;
  readonly html: string;
  /** Where it ended after redirects. */
  readonly address: string;
  readonly headers: Headers;
}

/** What would trouble a move in how a page of the old site answers. */
export function pageFindings(page: AskedPage, trouble: string | undefined): Finding[] {
  const home = page.which === 'home page';
  // The login page goes where the home page goes.
  return [
    ...(home ? redirectFindings(page) : []),
    ...statusFindings(page, trouble),
    ...(home ? indexingFindings(page) : []),
  ];
}

function redirectFindings({ which, url, address }: AskedPage): Finding[] {
  const [asked, ended] = [new URL(url), new URL(address)];
  if (asked.host !== ended.host) {
    return [
      finding({
        level: 'warn',
        code: 'old-sent-elsewhere',
        place: url,
        what: `The ${which} sends visitors on to ${ended.origin === 'null' ? ended.href : ended.origin}`,
        remedy: 'If that is where the site is served, write it as old.address and this one under old.also',
      }),
    ];
  }
  if (asked.protocol === ended.protocol) return [];
  const [from, to] = [asked.protocol.slice(0, -1), ended.protocol.slice(0, -1)];
  return [
    finding({
      level: 'warn',
      code: 'old-scheme-differs',
      place: url,
      what: `The ${which} sends visitors from ${from} to ${to}`,
      remedy: `Write old.address with ${to}`,
    }),
  ];
}

function statusFindings({ which, url, address, status }: AskedPage, trouble: string | undefined): Finding[] {
  const report = (level: Finding['level'], code: Finding['code'], what: string, remedy: string) => [
    finding({ level, code, place: url, what, remedy }),
  ];
  if (trouble !== undefined) {
    return report(
      'stop',
      'old-not-well',
      `The ${which} shows ${trouble === 'installation page' ? 'an installation page' : 'a database error'}`,
      'Mend the old site first, or take the files and the dump of a day on which it was well',
    );
  }
  if (status === 503) {
    return report(
      'warn',
      'old-in-maintenance',
      `The ${which} answers with maintenance mode (503)`,
      'End it before packing, or the new site begins in maintenance mode too',
    );
  }
  if (status === 401 || status === 403) {
    return report(
      'note',
      'old-locked',
      `The ${which} is locked (${status})`,
      'Nothing can be compared there; give check a way in, or look yourself',
    );
  }
  if (status >= 300 && status < 400 && new URL(address).host === new URL(url).host) {
    return report(
      'warn',
      'old-redirect-loop',
      `The ${which} sends visitors on again and again (${status})`,
      'Check old.address: the site may be served under another host, or over https alone',
    );
  }
  if (status < 400) return [];
  return which === 'home page'
    ? report(
        'stop',
        'old-home-broken',
        `The ${which} answers with ${status}`,
        'Check that old.address is where visitors find the site',
      )
    : report(
        'note',
        'old-login-missing',
        `The ${which} answers with ${status}`,
        'An extension may have moved it; note where, you will need it at the new site',
      );
}

function indexingFindings({ url, headers, html }: AskedPage): Finding[] {
  const robots = `${headers['x-robots-tag'] ?? ''} ${/<meta[^<>]+name=["']robots["'][^<>]*>/i.exec(html)?.[0] ?? ''}`;
  if (!/noindex/i.test(robots)) return [];
  return [
    finding({
      level: 'note',
      code: 'old-not-indexed',
      place: url,
      what: 'Search engines are asked not to list the home page',
      remedy: 'If the new site is to be found, set configure.search-engines: show',
    }),
  ];
}

/** What is between a site's visitors and its server. */
export function frontFindings(url: string, { between }: ServerHeaders): Finding[] {
  if (between.length === 0) return [];
  return [
    finding({
      level: 'warn',
      code: 'proxy-in-front',
      place: url,
      what: `A cache or proxy answers in front of the server (${between.slice(0, 2).join('; ')})`,
      remedy: 'The change must be made there too; know how to empty its cache before the cutover',
    }),
  ];
}

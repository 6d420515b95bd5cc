import fc from 'fast-check';
import { type Address, addressPath, parseAddress } from '../../src/core/address/address.js';
import {
  type RedirectOptions,
  type RedirectRequest,
  type RedirectSet,
  redirectSet,
} from '../../src/core/redirects/redirect-set.js';
import { parseRule, type WrittenRule } from '../../src/core/redirects/rules/redirect-rule.js';
import { keyOfPage, type SingleRedirect, targetUrl } from '../../src/core/redirects/singles.js';

/** A set of redirects as a sheet and a list would give it. */
export interface WrittenSet {
  readonly old: string;
  readonly also?: readonly string[];
  readonly to: string;
  /** Page, target, status. */
  readonly singles?: readonly (readonly [from: string, to: string, status?: 301 | 302 | 410])[];
  readonly rules?: readonly WrittenRule[];
  readonly options?: Partial<RedirectOptions>;
}

export function setOf({ old, also = [], to, singles = [], rules = [], options }: WrittenSet): RedirectSet {
  const next = parseAddress(to);
  const { from: all } = redirectSet(parseAddress(old), also.map(parseAddress), next);
  const read = singles.flatMap(([from, target, status = 301]) =>
    singleOf(from, target, { status, next, all }),
  );
  const known = new Set<string>();
  return redirectSet(parseAddress(old), also.map(parseAddress), next, {
    singles: read.filter(({ key }) => !known.has(key) && known.add(key)),
    rules: rules.map(rule => parseRule(rule, next)),
    options: { isTemporary: false, anyCase: false, query: 'keep', leavesHatches: false, ...options },
  });
}

function singleOf(
  from: string,
  target: string,
  {
    status,
    next,
    all,
  }: { readonly status: 301 | 302 | 410; readonly next: Address; readonly all: readonly Address[] },
): SingleRedirect[] {
  const key = keyOfPage(from, all);
  const url = status === 410 ? '' : targetUrl(target, next);
  return key === undefined || url === undefined ? [] : [{ key, target: url, status }];
}

/** Addresses that overlap in every way, all served by one old server over HTTP. */
export const places: readonly Pick<WrittenSet, 'old' | 'also' | 'to'>[] = [
  { old: 'https://old.example/site', to: 'https://new.example' },
  { old: 'https://old.example', to: 'https://new.example/shop' },
  { old: 'https://old.example', to: 'https://old.example/blog' },
  { old: 'https://old.example/blog', to: 'https://old.example' },
  { old: 'http://old.example', to: 'https://old.example' },
  { old: 'http://old.example', to: 'http://old.example' },
  { old: 'https://old.example', to: 'https://www.old.example' },
  { old: 'https://www.old.example/~club', also: ['http://tmp.old.example'], to: 'https://new.example/a%20b' },
  { old: 'https://old.example/my site/übung', to: 'https://new.example/$1' },
  { old: 'https://old.example/a,b', to: 'https://new.example/c,d' },
];

const pages = [
  ...[
    '/tide',
    '/tide/',
    '/Tide',
    '/2019/05/',
    '/2019/05/spring-tide/',
    '/a b',
    '/café/',
    "/keeper's~log",
    '/old.html',
  ],
  ...[
    '/?p=12',
    '/tide?view=all',
    '/index.php?option=com_content&id=7',
    '/a%2Bb/',
    '/x+y',
    '/a,b',
    '/ä%C3%A9ß',
  ],
];
const targets = [
  ...[
    '/',
    '/tides/',
    '/a b/',
    '/boats?all=1',
    '/boats#oars',
    '/c,d/',
    'https://other.example/é',
    '/$1',
    '/100%25',
  ],
  ...["/o'neil", '/[x]', '/{y}'],
];
const rules: readonly WrittenRule[] = [
  { from: '/:year(\\d{4})/:month(\\d{2})/:slug/', to: '/:slug/' },
  { from: '/news/*', to: '/:0' },
  { from: '/shop/:id(\\d+)', to: '/products?id=:id' },
  {
    from: '/:lang(de|en)/:rest*',
    to: 'https://:lang.example/:rest'.replace('https://:lang', 'https://lang'),
  },
  { from: '/files/:name.:ext(pdf|zip)', to: '/documents/:name.:ext', status: 302 },
  { from: '/{old-}?boats', to: '/boats' },
  { from: '/log/*', to: '/:0x' },
  { from: '/gone/*', status: 410 },
  { from: '/übung/:x+', to: '/training/:x' },
];

/** Sets that a sheet and a list could give. @param places whose addresses */
export function sets(of = places): fc.Arbitrary<WrittenSet> {
  const single = fc.tuple(
    fc.constantFrom(...pages),
    fc.constantFrom(...targets),
    fc.constantFrom(301 as const, 301 as const, 302 as const, 410 as const),
  );
  return fc
    .record({
      place: fc.constantFrom(...of),
      singles: fc.oneof(
        { weight: 1, arbitrary: fc.constant([]) },
        { weight: 3, arbitrary: fc.array(single, { minLength: 6, maxLength: 16 }) },
      ),
      many: fc.constantFrom(0, 0, 0, 120, 700),
      rules: fc.oneof(
        { weight: 1, arbitrary: fc.constant([]) },
        { weight: 2, arbitrary: fc.uniqueArray(fc.constantFrom(...rules), { minLength: 2, maxLength: 6 }) },
      ),
      options: fc.record({
        isTemporary: fc.constantFrom(false, false, true),
        anyCase: fc.constantFrom(false, false, true),
        query: fc.constantFrom('keep' as const, 'keep' as const, 'drop' as const),
        leavesHatches: fc.boolean(),
      }),
    })
    .map(({ place, singles, many, ...rest }) => ({
      ...place,
      ...rest,
      singles: [
        ...singles,
        ...Array.from({ length: many }, (_, i) => [`/entry-${i}/`, `/log/${i}/`] as const),
      ],
    }));
}

/** Requests as clients send them, and as they do not, to a set that is served over HTTP. */
export function requests(set: WrittenSet): fc.Arbitrary<RedirectRequest> {
  const base = addressPath(parseAddress(set.old));
  const hex = fc.integer({ min: 1, max: 255 }).map(byte => `%${byte.toString(16).padStart(2, '0')}`);
  const odd = ['//', '..', '/./', '%7E', '\xC3\xA9', '\xFF', '[', ']', '|', '{', '^', '`', '"', '<'];
  const char = fc.oneof(
    { weight: 4, arbitrary: fc.constantFrom(..."abcXYZ019-._~!$&()*+,;=:@'/") },
    { weight: 1, arbitrary: hex },
    { weight: 1, arbitrary: hex.map(code => code.toUpperCase()) },
    { weight: 1, arbitrary: fc.constantFrom(...odd) },
  );
  const rest = fc.array(char, { maxLength: 12 }).map(parts => parts.join(''));
  const long = fc.integer({ min: 500, max: 3000 }).map(length => 'a'.repeat(length));
  const begin = fc.oneof(
    { weight: 3, arbitrary: fc.constant(base) },
    {
      weight: 2,
      arbitrary: fc.constantFrom(
        ...[`${base}x`, base.toUpperCase(), base.replace('~', '%7e'), base.replace('%C3%BC', '\xC3\xBC')],
        ...[base.replace('%C3', '%c3'), '/.well-known', '/other', '', '/blog', '/site'],
      ),
    },
  );
  const query = fc.option(
    fc
      .tuple(fc.constantFrom('p=12', 'a=b&c=', '', 'u=https%3A%2F%2Fx%2F'), rest)
      .map(parts => `?${parts.join('')}`),
    { nil: '' },
  );
  const hatch = `/p${'0123456789abcdef'.repeat(2)}.php`;
  const any = fc.oneof(
    { weight: 1, arbitrary: fc.constantFrom(hatch, `/a${hatch}`, `${hatch}/x`, `${hatch}x`, `${hatch}5`) },
    { weight: 5, arbitrary: rest.map(one => `/${one}`) },
    { weight: 2, arbitrary: fc.constant('') },
    { weight: 1, arbitrary: long.map(one => `/${one}`) },
  );
  const known = [
    ...(set.singles ?? []).slice(0, 16).map(([page]) => encodeURI(page).replace(/%25/g, '%')),
    ...pages.slice(0, 6).map(page => encodeURI(page).replace(/%25/g, '%')),
    ...(set.singles ?? []).slice(-3).map(([page]) => encodeURI(page)),
  ];
  const ruled = [
    ...['/2020/01/regatta', '/2020/1/regatta/', '/news/a/b/', '/news', '/shop/7', '/de/', '/en/a/b', '/fr/a'],
    ...[
      '/files/oars.pdf',
      '/files/a.b.zip/',
      '/old-boats/',
      '/boats',
      '/gone/x',
      '/%C3%BCbung/a/b',
      '/gone',
      '/log/a',
    ],
  ];
  const change = fc.constantFrom(...changes);
  const [changed, changedRuled] = [known, ruled].map(list =>
    fc.tuple(fc.constantFrom(...list), change).map(([page, how]) => base + how(page)),
  );
  const path = fc.oneof(
    { weight: 1, arbitrary: fc.tuple(begin, any, query).map(parts => parts.join('')) },
    { weight: 1, arbitrary: changed! },
    { weight: 1, arbitrary: changedRuled! },
  );
  return fc.record({
    method: fc.constantFrom('GET', 'GET', 'GET', 'HEAD', 'POST'),
    scheme: fc.constant('http' as const),
    host: fc.constantFrom('old.example', 'OLD.example', 'www.old.example', 'tmp.old.example'),
    uri: path.map(uri => (uri.startsWith('/') ? uri : `/${uri}`)),
  });
}

const changes: readonly ((page: string) => string)[] = [
  page => page,
  page => page,
  page => page.replace(/\/(?=$|\?)/, ''),
  page => page.replace(/(?<!\/)(?=$|\?)/, '/'),
  page => page.toUpperCase(),
  page => page.replace(/%[0-9A-F]{2}/g, code => code.toLowerCase()),
  page => page.replace(/%[89A-F][0-9A-F]/g, code => String.fromCharCode(Number.parseInt(code.slice(1), 16))),
  page => page.replaceAll('~', '%7E'),
  page => `${page}${page.includes('?') ? '&' : '?'}from=mail`,
  page => `${page}?`,
  page => page.replace('p=12', 'p=13'),
];

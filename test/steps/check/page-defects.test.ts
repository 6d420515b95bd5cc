import assert from 'node:assert/strict';
import { mkdtempSync, rmSync } from 'node:fs';
import { tmpdir } from 'node:os';
import { join } from 'node:path';
import { after, before, test } from 'node:test';
import type { FindingCode } from '../../../src/core/findings/findings.js';
import type { SiteFigures } from '../../../src/core/site/data/site-figures.js';
import { wordpress } from '../../../src/core/site/families/wordpress.js';
import { comparePagesOf } from '../../../src/steps/check/pages/compare.js';
import { openSites } from '../../../src/steps/check/site/both-sites.js';
import { deliver } from '../../../src/steps/deliver.js';
import { DemoHosts, newAddress, oldPlace } from '../../../src/steps/demo/hosts.js';
import { openMove } from '../../../src/steps/move/open.js';
import { unlimitedRate } from '../../../src/steps/move/rate-limit.js';
import type { StepRun } from '../../../src/steps/move/step.js';
import { pack } from '../../../src/steps/pack.js';
import { rewrite } from '../../../src/steps/rewrite.js';
import { MutatingProxy, type Mutation, type Passing } from '../../help/mutating-proxy.js';

const oldAddress = oldPlace.address;
const noFigures: SiteFigures = {
  extensions: [],
  theme: undefined,
  frontPage: undefined,
  published: {},
  pages: [],
};
let root: string;
let hosts: DemoHosts;
let run: StepRun;
let proxies: { old: MutatingProxy; new: MutatingProxy };

const html = ({ headers }: Passing) => String(headers['content-type']).startsWith('text/html');
const edit = (answer: Passing, change: (text: string) => string) => {
  answer.body = Buffer.from(change(answer.body.toString('utf8')));
};

/** What both sites have that the stand-in has not, with noise of every kind. */
function adorned(address: string): Mutation {
  const { host, pathname } = new URL(address);
  let count = 0;
  return (answer, { path, headers }) => {
    answer.headers['strict-transport-security'] = 'max-age=600';
    answer.headers['content-security-policy'] = `img-src https://${host} data:`;
    if (headers.host === `www.${host}`) {
      answer.status = 301;
      answer.headers.location = `${address}${path.replace(/^\/site/, '')}`;
      return;
    }
    if (!html(answer) || answer.status !== 200) return;
    answer.headers['set-cookie'] = [
      `visit=${Math.random()}; Path=${pathname.replace(/\/$/, '')}/; Secure; HttpOnly`,
    ];
    if (path.includes('wp-login')) return;
    const nonce = Math.random().toString(16).slice(2, 12);
    edit(answer, text =>
      text
        .replace(
          '</head>',
          `<script nonce="${nonce}">var site = {"home":"${address.replaceAll('/', '\\/')}","token":"${nonce}"};</script></head>`,
        )
        .replace(
          '</main>',
          `<p>Page made in 0.${nonce} seconds for visitor number ${count++}.</p><img src="https://img-${nonce}.cdn.example/pixel.png">` +
            `<a href="${address}/?share=${nonce}&to=mail">Share</a><form action="${address}/send/" method="post"><input type="hidden" name="token" value="${nonce}"><input name="mail"></form></main>`,
        ),
    );
  };
}

before(async () => {
  root = mkdtempSync(join(tmpdir(), 'able-porter-test-'));
  const signal = new AbortController().signal;
  hosts = new DemoHosts(root, { server: undefined, hatches: undefined, stores: false });
  await hosts.open(signal);
  const sheet = await hosts.writeMove([oldPlace.temporary]);
  const move = await openMove(sheet, {});
  run = { move, events: () => {}, signal, rate: unlimitedRate };
  await pack(run);
  await rewrite(run);
  await deliver(run);
  await hosts.serveDelivered(signal);
  const { old, new: next } = move.sheet;
  proxies = { old: new MutatingProxy(old.reach!), new: new MutatingProxy(next.reach!) };
  Object.assign(old, { reach: await proxies.old.listen() });
  Object.assign(next, { reach: await proxies.new.listen() });
  Object.assign(move.sheet.check, { pages: 14 });
});

after(async () => {
  await Promise.all([proxies.old.close(), proxies.new.close()]);
  run.move.accounts.close();
  await hosts.close();
  rmSync(root, { recursive: true });
});

async function found(...mutations: Mutation[]) {
  proxies.old.mutations = [adorned(oldAddress)];
  proxies.new.mutations = [adorned(newAddress), ...mutations];
  const sites = openSites(run, wordpress);
  const { findings } = await comparePagesOf(run, sites, Promise.resolve(noFigures), Math.random());
  await Promise.all([sites.old.close(), sites.new.close()]);
  // So that a run takes a moment, not all pages are compared.
  return findings.filter(({ code }) => code !== 'pages-not-all');
}

test('two sites that differ by their noise alone are the same', async () => {
  for (let i = 0; i < 2; i++) assert.deepEqual(await found(), []);
});

/** A defect of the new site: how it is put there, and what has to be said of it. */
type Defect = readonly [what: string, code: FindingCode, where: RegExp, mutate: Mutation];

const page = '/tide-tables/';
/** Changes the HTML of pages, or of one of them. */
const text =
  (change: (text: string) => string, at?: string): Mutation =>
  (answer, { path }) => {
    if (html(answer) && answer.status === 200 && (at === undefined || path === at)) edit(answer, change);
  };
const every =
  (change: (answer: Passing, path: string) => void): Mutation =>
  (answer, { path }) => {
    if (html(answer)) change(answer, path);
  };
const status = (code: number, at = page): Mutation =>
  every((answer, path) => {
    if (path === at) answer.status = code;
  });
const redirect = (to: string, at = page): Mutation =>
  every((answer, path) => {
    if (path !== at) return;
    answer.status = 302;
    answer.headers.location = to;
  });
const file =
  (at: RegExp, change: (answer: Passing) => void): Mutation =>
  (answer, { path }) => {
    if (at.test(path)) change(answer);
  };
const header = (name: string, value?: string): Mutation =>
  every(answer => {
    if (value === undefined) delete answer.headers[name];
    else answer.headers[name] = value;
  });

const defects: readonly Defect[] = [
  ['a page is missing', 'page-missing', /tide-tables.*status 404/, status(404)],
  [
    'only the front page is found',
    'permalinks-broken',
    /front page is/,
    every((answer, path) => {
      if (path !== '/' && !path.includes('.')) answer.status = 404;
    }),
  ],
  ['a page is refused', 'page-forbidden', /tide-tables.*403/, status(403)],
  ['a page ends in an error', 'page-server-error', /tide-tables.*500/, status(500)],
  [
    'an address that was not there ends in an error',
    'page-server-error',
    /500/,
    (answer, { path }) => {
      if (path === page) answer.status = 500;
    },
  ],
  [
    'the site shows maintenance',
    'page-in-maintenance',
    /503/,
    every(answer => {
      answer.status = 503;
    }),
  ],
  [
    'a page is redirected in a loop',
    'page-redirect-loop',
    /tide-tables/,
    (answer, { path }) => {
      if (path === page) Object.assign(answer, { status: 302 }).headers.location = `${page}?again`;
      if (path === `${page}?again`) Object.assign(answer, { status: 302 }).headers.location = page;
    },
  ],
  [
    'a page leads to the old site',
    'page-sent-to-old',
    /club\.saltmarsh\.example/,
    redirect(`${oldAddress}${page}`),
  ],
  [
    'a page leads to an address the old site had too',
    'page-sent-to-old',
    /tmp-4417/,
    redirect(`${oldPlace.temporary}${page}`),
  ],
  ['a page leads to the front page', 'page-sent-home', /tide-tables/, redirect('/')],
  ['a page leads to a stranger', 'page-sent-away', /parked\.example/, redirect('https://parked.example/')],
  ['a page leads to another page', 'page-redirect-differs', /wp-login/, redirect('/wp-login.php')],
  [
    'a page does not answer',
    'page-unreachable',
    /tide-tables/,
    (answer, { path }) => {
      if (path === page) answer.dead = true;
    },
  ],
  [
    'the installation shows',
    'page-installation',
    /installation page/,
    text(() => '<title>Site › Installation</title>', '/'),
  ],
  [
    'the database is not reached',
    'page-database-error',
    /database error/,
    text(() => 'Error establishing a database connection', page),
  ],
  ['a page is blank', 'page-blank', /tide-tables/, text(() => '', page)],
  [
    'a page has a frame and no content',
    'page-blank',
    /tide-tables/,
    text(() => '<!doctype html><html><body></body></html>', page),
  ],
  ['a page is cut off by the program', 'page-cut', /without <\/html>/, text(one => one.slice(0, -40), page)],
  [
    'a page is cut off by the connection',
    'page-cut',
    /all of it was sent/,
    (answer, { path }) => {
      if (path === page) Object.assign(answer, { cut: true }).headers['content-encoding'] = 'identity';
    },
  ],
  [
    'a page says that it is compressed and is not',
    'page-cut',
    /unpacked/,
    (answer, { path }) => {
      if (path === page) answer.headers['content-encoding'] = 'br';
    },
  ],
  [
    'a page is offered as a download',
    'page-type-differs',
    /application\/octet-stream/,
    (answer, { path }) => {
      if (path === page) answer.headers['content-type'] = 'application/octet-stream';
    },
  ],
  [
    'a warning shows',
    'page-message-shown',
    /Undefined array key/,
    text(one =>
      one.replace(
        '<main>',
        '<br />\n<b>Warning</b>:  Undefined array key "tide" in <b>/srv/www/wp-content/themes/creek/index.php</b> on line <b>12</b><br /><main>',
      ),
    ),
  ],
  [
    'a fatal error shows',
    'page-message-shown',
    /Call to undefined function/,
    text(
      one =>
        one.replace(
          '</main>',
          'PHP Fatal error:  Uncaught Error: Call to undefined function mb_substr() in /srv/www/a.php:3</main>',
        ),
      page,
    ),
  ],
  [
    'a deprecation shows',
    'page-message-shown',
    /Deprecated/,
    text(one => `Deprecated: Function strftime() is deprecated in /srv/www/b.php on line 9${one}`),
  ],
  [
    'the source shows',
    'page-source-shown',
    /PHP source/,
    text(() => "<?php\nrequire __DIR__ . '/wp-blog-header.php';", '/'),
  ],
  [
    'letters are garbled',
    'page-garbled',
    /Ã¼/,
    text(one => one.replace('<h2>', '<h2>MÃ¼nster Ã©tÃ© '), page),
  ],
  [
    'the header names another character set',
    'page-charset-differs',
    /iso-8859-1/,
    header('content-type', 'text/html; charset=iso-8859-1'),
  ],
  [
    'a title differs',
    'page-title-differs',
    /Other tides/,
    text(one => one.replace(/<title>.*?<\/title>/, '<title>Other tides</title>'), page),
  ],
  [
    'a line differs',
    'page-text-differs',
    /High water at noon/,
    text(one => one.replace('<main>', '<main><p>High water at noon.</p>'), page),
  ],
  ['a line is missing', 'page-text-differs', /lacks “/, text(one => one.replace(/<h2>.*?<\/h2>/, ''), page)],
  [
    'a menu lost a link',
    'page-menu-differs',
    /lacks the menu link/,
    text(one => one.replace(/(<nav>.*?)<a [^>]*>.*?<\/a>/, '$1<span>x</span>'), page),
  ],
  [
    'a link leads elsewhere',
    'page-link-differs',
    /wp-login-2/,
    text(one => one.replace('wp-login.php"', 'wp-login-2.php"'), page),
  ],
  [
    'a form is sent elsewhere',
    'page-form-differs',
    /\/sent\//,
    text(one => one.replace('/send/', '/sent/'), page),
  ],
  ['a form lost a field', 'page-form-differs', /token/, text(one => one.replace('<input name="mail">', ''))],
  [
    'a form is missing',
    'page-form-differs',
    /lacks the form/,
    text(one => one.replace(/<form role="search".*?<\/form>/, ''), page),
  ],
  ['another language', 'page-language-differs', /“de”/, text(one => one.replace('lang="en"', 'lang="de"'))],
  [
    'an old address in a link',
    'page-old-address',
    /a href/,
    text(one => one.replace('</main>', `<a href="${oldAddress}/x/">x</a></main>`), page),
  ],
  [
    'an old address in a script',
    'page-old-address',
    /script/,
    text(one =>
      one.replace('</head>', `<script>var a="${oldAddress.replaceAll('/', '\\/')}"</script></head>`),
    ),
  ],
  [
    'an old address in a comment',
    'page-old-address',
    /comment/,
    text(one => one.replace('</main>', `<!-- cached at ${oldAddress}/ --></main>`)),
  ],
  [
    'an old address in a style',
    'page-old-address',
    /style/,
    text(
      one => one.replace('</main>', `<div style="background:url(${oldAddress}/b.png)"></div></main>`),
      page,
    ),
  ],
  [
    'the bare old host in a script',
    'page-old-address',
    /club\.saltmarsh\.example/,
    text(one => one.replace('</head>', '<script>var host="club.saltmarsh.example";</script></head>')),
  ],
  [
    'a preconnect to the old host',
    'page-old-address',
    /link href/,
    text(one =>
      one.replace('</head>', '<link rel="preconnect" href="//club.saltmarsh.example/site/"></head>'),
    ),
  ],
  [
    'a policy names the old host',
    'page-header-old-host',
    /content-security-policy/,
    header('content-security-policy', `img-src ${oldAddress} data:`),
  ],
  [
    'cross-origin use is given to the old host',
    'page-header-old-host',
    /access-control-allow-origin/,
    header('access-control-allow-origin', 'https://club.saltmarsh.example'),
  ],
  ['the policy is gone', 'page-header-missing', /content-security-policy/, header('content-security-policy')],
  [
    'transport security is gone',
    'page-header-missing',
    /strict-transport-security/,
    header('strict-transport-security'),
  ],
  ['compression is gone', 'page-header-missing', /compression/, header('content-encoding', 'identity')],
  [
    'files are no longer kept',
    'page-header-missing',
    /cache-control/,
    file(/\.css$/, answer => {
      delete answer.headers['cache-control'];
    }),
  ],
  [
    'a cookie for the old host',
    'page-cookie-differs',
    /domain/,
    every(answer => {
      answer.headers['set-cookie'] = ['visit=1; Domain=club.saltmarsh.example; Path=/; Secure; HttpOnly'];
    }),
  ],
  [
    'a cookie for the old path',
    'page-cookie-differs',
    /\/site/,
    every(answer => {
      answer.headers['set-cookie'] = ['visit=1; Path=/site/; Secure; HttpOnly'];
    }),
  ],
  [
    'a cookie without protection',
    'page-cookie-differs',
    /HttpOnly/,
    every(answer => {
      answer.headers['set-cookie'] = ['visit=1; Path=/'];
    }),
  ],
  [
    'a script without encryption',
    'page-mixed-content',
    /script src/,
    text(one =>
      one.replace('</head>', '<script src="http://saltmarshrowing.example.org/a.js"></script></head>'),
    ),
  ],
  [
    'an image without encryption',
    'page-mixed-content',
    /img src/,
    text(one => one.replace('</main>', '<img src="http://pictures.example/a.png"></main>'), page),
  ],
  [
    'a form without encryption',
    'page-mixed-content',
    /form action/,
    text(
      one =>
        one
          .replace(`${newAddress}/send/`, `${newAddress.replace('https', 'http')}/send/`)
          .replace('</main>', '<form action="http://forms.example/x"></form></main>'),
      page,
    ),
  ],
  [
    'hidden from search engines by the page',
    'page-indexing-differs',
    /noindex/,
    text(one => one.replace('</head>', '<meta name="robots" content="noindex,nofollow"></head>')),
  ],
  [
    'hidden from search engines by the header',
    'page-indexing-differs',
    /noindex/,
    header('x-robots-tag', 'noindex'),
  ],
  [
    'a canonical link leads to the old site',
    'page-canonical-differs',
    /club\.saltmarsh/,
    text(one => one.replace(/rel="canonical" href="[^"]*"/, `rel="canonical" href="${oldAddress}/"`)),
  ],
  [
    'a canonical link leads to the front page',
    'page-canonical-differs',
    /instead of/,
    text(one => one.replace(/rel="canonical" href="[^"]*"/, `rel="canonical" href="${newAddress}/"`)),
  ],
  [
    'a translation is missing',
    'page-alternates-differ',
    /alternate/,
    text(one => one.replace(/<link rel="alternate" hreflang[^>]*>/, '')),
  ],
  [
    'a social tag differs',
    'page-social-differs',
    /og:url/,
    text(one => one.replace(/(og:url" content=")[^"]*/, '$1https://elsewhere.example/')),
  ],
  [
    'the feed is not named',
    'page-feed-differs',
    /feed/,
    text(one => one.replace(/<link rel="alternate" type="application\/rss[^>]*>/, '')),
  ],
  [
    'a style is no longer loaded',
    'page-asset-differs',
    /generated\.css/,
    text(one => one.replace(/<link rel="stylesheet" href="[^"]*generated.css">/, '')),
  ],
  [
    'a style is missing',
    'asset-broken',
    /style\.css.*404|404.*style\.css/,
    file(/style\.css/, answer => {
      answer.status = 404;
    }),
  ],
  [
    'a missing style is answered with a page',
    'asset-broken',
    /text\/html/,
    file(/style\.css/, answer => {
      answer.headers['content-type'] = 'text/html';
    }),
  ],
  [
    'a style is empty',
    'asset-empty',
    /style\.css/,
    file(/style\.css/, answer => {
      answer.body = Buffer.alloc(0);
      answer.headers['content-encoding'] = 'identity';
    }),
  ],
  [
    'a style has the wrong type',
    'asset-type-differs',
    /application\/octet-stream/,
    file(/style\.css/, answer => {
      answer.headers['content-type'] = 'application/octet-stream';
    }),
  ],
  [
    'an image is cut off',
    'image-broken',
    /cut off/,
    file(/\.png/, answer => {
      answer.body = answer.body.subarray(0, answer.body.length - 20);
    }),
  ],
  [
    'an image is a page',
    'image-broken',
    /HTML/,
    file(/\.png/, answer => {
      answer.body = Buffer.from('<!doctype html><title>Not here</title>');
    }),
  ],
  [
    'an old address in a style sheet',
    'asset-old-address',
    /generated\.css.*line/,
    file(/generated\.css/, answer =>
      edit(answer, one => `${one}\n.a { background: url(${oldAddress}/a.png) }`),
    ),
  ],
  [
    'a style sheet names a missing image',
    'asset-broken',
    /lost\.png.*url\(\)|url\(\).*lost\.png|lost\.png/,
    file(/style\.css/, answer => edit(answer, one => `${one}\n.a { background: url(lost.png) }`)),
  ],
  [
    'robots.txt closes the site',
    'robots-txt-differs',
    /front|\//,
    file(/robots\.txt/, answer => {
      answer.body = Buffer.from('User-agent: *\nDisallow: /\n');
    }),
  ],
  [
    'robots.txt names an old sitemap',
    'robots-txt-differs',
    /old address/,
    file(/robots\.txt/, answer => edit(answer, one => one.replace(newAddress, oldAddress))),
  ],
  [
    'the sitemap is missing',
    'sitemap-differs',
    /answers 404/,
    file(/wp-sitemap\.xml/, answer => {
      answer.status = 404;
    }),
  ],
  [
    'the sitemap names old addresses',
    'sitemap-differs',
    /old address/,
    file(/sitemap-posts/, answer => edit(answer, one => one.replaceAll(newAddress, oldAddress))),
  ],
  [
    'the sitemap lacks a page',
    'sitemap-differs',
    /lacks 1 address/,
    file(/sitemap-posts/, answer => edit(answer, one => one.replace(/<url>.*?<\/url>/, ''))),
  ],
  ['a page of the sitemap is gone', 'sitemap-differs', /200/, status(410)],
  [
    'the feed is missing',
    'feed-broken',
    /answers 404/,
    file(/\/feed\//, answer => {
      answer.status = 404;
    }),
  ],
  [
    'the feed leads to the old site',
    'feed-broken',
    /old address/,
    file(/\/feed\//, answer => edit(answer, one => one.replaceAll(newAddress, oldAddress))),
  ],
  [
    'the feed is a page',
    'feed-broken',
    /no feed/,
    file(/\/feed\//, answer => {
      answer.body = Buffer.from('<!doctype html><p>News</p>');
    }),
  ],
  [
    'unknown addresses are answered',
    'unknown-address-answers',
    /404/,
    every(answer => {
      if (answer.status === 404) answer.status = 200;
    }),
  ],
  [
    'the twin is not served',
    'twin-differs',
    /www\.saltmarshrowing\.example/,
    (answer, { headers }) => {
      if (headers.host?.startsWith('www.')) answer.status = 421;
    },
  ],
  [
    'the twin leads to the old site',
    'twin-differs',
    /club\.saltmarsh/,
    (answer, { headers }) => {
      if (headers.host?.startsWith('www.')) answer.headers.location = `${oldAddress}/`;
    },
  ],
  [
    'the search finds nothing',
    'search-differs',
    /lacks/,
    text(one => one.replace(/<ul>.*?<\/ul>/s, '<ul></ul>').replace('</main>', '</main>'), undefined),
  ],
  [
    'the interface is closed',
    'interface-differs',
    /401/,
    file(/wp-json/, answer => {
      answer.status = 401;
    }),
  ],
  [
    'the interface names the old site',
    'interface-differs',
    /old address/,
    file(/wp-json/, answer => edit(answer, one => one.replaceAll(newAddress, oldAddress))),
  ],
  [
    'the interface lost a part',
    'interface-differs',
    /wp\/v2/,
    file(/wp-json/, answer => edit(answer, one => one.replace(',"wp/v2"', ''))),
  ],
  [
    'pages are slow',
    'pages-slow',
    /takes/,
    every(answer => {
      answer.wait = 900;
    }),
  ],
];

test(`${defects.length} defects of a new site, one at a time: each is found, with its place`, {
  timeout: 600_000,
}, async t => {
  assert.ok(defects.length >= 60);
  for (const [what, code, where, mutate] of defects)
    await t.test(what, async () => {
      const findings = await found(mutate);
      const ofCode = findings.filter(one => one.code === code);
      const said = ofCode.map(one => `${one.place} ${one.what}`);
      assert.ok(
        said.some(line => where.test(line)),
        JSON.stringify(
          findings.map(one => `${one.code} ${one.place} ${one.what}`),
          null,
          1,
        ),
      );
    });
});

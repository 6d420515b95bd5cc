import type { Browser as Driven, Page, Route } from 'playwright-core';
import type { WebSite } from '../http/web-site.js';

/** What a browser shows of a page. */
export interface BrowserLook {
  /** All of the page, as PNG. */
  readonly picture: Buffer;
  /** What its console reports as an error. */
  readonly errors: readonly string[];
  /** What the site did not give, each with its status or reason. */
  readonly failed: readonly string[];
}

/** A site as a browser is to see it. */
export interface SeenSite {
  readonly site: WebSite;
  /** Where a URL that the browser asks for is at the site; undefined where it is not of the site. */
  urlAt(url: URL): URL | undefined;
  /** What becomes of the text that is shown, where it is to be another one. */
  retext?(text: string): string;
}

export interface ViewSize {
  readonly name: 'desktop' | 'phone';
  readonly width: number;
  readonly height: number;
}

const patience = 30_000;
/** Loads and decodes every image, also those that wait until they are scrolled to, and every font. */
const allShown = `(async () => {
  const images = [...document.images];
  for (const image of images) image.loading = 'eager';
  const enough = new Promise(resolve => setTimeout(resolve, 10_000));
  await Promise.race([enough, Promise.all([document.fonts.ready, ...images.map(image => image.decode().catch(() => {}))])]);
})()`;
/** Milliseconds after all is loaded, for what a page still draws then. */
const settling = 400;
/** A longer page is cut off, in pixels. */
const tallest = 8_000;

/**
 * A browser on this machine that sees a site as it is reached before the DNS leads there: whatever it asks for is fetched as
 * the rest of a check fetches it. Other hosts are not asked, and no page is left for another.
 */
export class Browser {
  private readonly driven: Driven;

  private constructor(driven: Driven) {
    this.driven = driven;
  }

  /** @throws Error where the program is no browser that can be driven */
  static async start(program: string): Promise<Browser> {
    const { chromium } = await import('playwright-core');
    // Its sandbox does not work for the superuser.
    const chromiumSandbox = process.getuid?.() !== 0;
    const driven = await chromium.launch({
      executablePath: program,
      chromiumSandbox,
      args: [
        '--host-resolver-rules=MAP * ~NOTFOUND',
        '--force-color-profile=srgb',
        '--disable-background-networking',
      ],
    });
    return new Browser(driven);
  }

  /** Opens a page of a site. */
  async look(
    seen: SeenSite,
    url: string,
    { width, height, name }: ViewSize,
    signal: AbortSignal,
  ): Promise<BrowserLook> {
    const context = await this.driven.newContext({
      viewport: { width, height },
      isMobile: name === 'phone',
      reducedMotion: 'reduce',
      locale: 'en-GB',
      timezoneId: 'UTC',
      serviceWorkers: 'block',
    });
    const end = () => void context.close().catch(() => {});
    signal.addEventListener('abort', end, { once: true });
    try {
      const page = await context.newPage();
      const [errors, failed]: [string[], string[]] = [[], []];
      page.on('console', message => {
        // What is not loaded is listed apart.
        if (message.type() === 'error' && !/^Failed to load resource/.test(message.text()))
          errors.push(message.text());
      });
      page.on('pageerror', error => errors.push(error.message));
      page.on('dialog', dialog => void dialog.dismiss().catch(() => {}));
      await page.route('**/*', route => answered(route, seen, failed, signal));
      await page.goto(url, { waitUntil: 'load', timeout: patience });
      await page.evaluate(allShown).catch(() => {});
      await page.waitForTimeout(settling);
      if (seen.retext) await changeText(page, seen.retext);
      return { picture: await pictureOf(page, width, height), errors, failed };
    } finally {
      signal.removeEventListener('abort', end);
      await context.close().catch(() => {});
    }
  }

  close(): Promise<void> {
    return this.driven.close();
  }
}

async function pictureOf(page: Page, width: number, height: number): Promise<Buffer> {
  const measured = await page.evaluate('document.documentElement.scrollHeight').catch(() => height);
  const clip = { x: 0, y: 0, width, height: Math.min(Math.max(height, Number(measured) || height), tallest) };
  return page.screenshot({ fullPage: true, clip, animations: 'disabled', caret: 'hide', timeout: patience });
}

/** Gives the browser what it asks for, fetched from the site as it is reached. */
async function answered(
  route: Route,
  { site, urlAt }: SeenSite,
  failed: string[],
  signal: AbortSignal,
): Promise<void> {
  const request = route.request();
  const url = urlAt(new URL(request.url()));
  if (request.method() !== 'GET' || !url) return route.abort('addressunreachable').catch(() => {});
  try {
    const { status, content, headers, address } = await site.follow(url, signal);
    if (status >= 400) failed.push(`${url.pathname}${url.search} (${status})`);
    const sent = Object.entries(headers).flatMap(([name, value]) =>
      value === undefined ||
      /^(?:content-encoding|content-length|transfer-encoding|connection|set-cookie)$/.test(name)
        ? []
        : [[name, [value].flat().join(', ')] as const],
    );
    const isElsewhere = status >= 300 && status < 400 && address !== url.href;
    await route.fulfill({
      status: isElsewhere ? 404 : status,
      headers: Object.fromEntries(sent),
      body: content,
    });
  } catch (error) {
    failed.push(`${url.pathname}${url.search} (${(error as Error).message})`);
    await route.abort('failed').catch(() => {});
  }
}

/** Changes the text that a page shows, node by node. The page's own scripts have no part in it. */
async function changeText(page: Page, retext: (text: string) => string): Promise<void> {
  const nodes = `(() => { const found = []; const walker = document.createTreeWalker(document.body, NodeFilter.SHOW_TEXT);
    while (walker.nextNode()) found.push(walker.currentNode); return found; })()`;
  const texts = await page.evaluate(`${nodes}.map(node => node.data)`).catch(() => []);
  if (!Array.isArray(texts)) return;
  const changes = texts.flatMap((text, i) => {
    const now = retext(String(text));
    return now === text ? [] : [[i, now] as const];
  });
  if (changes.length === 0) return;
  await page.evaluate(
    `(changes => { const nodes = ${nodes}; for (const [i, text] of changes) nodes[i].data = text; })(${JSON.stringify(changes)})`,
  );
}

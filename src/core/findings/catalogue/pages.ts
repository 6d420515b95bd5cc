import type { CatalogueEntry } from '../entry.js';

/** A kind of difference between pages, with what is said of several of them. */
interface PageEntry extends CatalogueEntry {
  /** Follows "3 pages", or "3 files". */
  readonly several: string;
}

/** What a comparison of pages finds on a page. */
export const pageFindings = {
  'asset-broken': {
    levels: ['warn'],
    meaning: 'An image, style, script or font does not load at the new site.',
    several: 'do not load',
    remedy: 'Check whether it was left out, or is missing at the old site too.',
  },
  'asset-empty': {
    levels: ['warn'],
    meaning: 'An image, style, script or font of the new site is empty.',
    several: 'are empty',
    remedy: 'Deliver it again with `deliver --by-content`.',
  },
  'asset-old-address': {
    levels: ['warn'],
    meaning: 'A style, script or data file of the new site holds an old address.',
    several: 'hold an old address',
    remedy: 'Let the extension that writes it make it again, or name it in `rewrite.files`.',
  },
  'asset-type-differs': {
    levels: ['warn'],
    meaning: 'The new server serves a file with a type that browsers refuse.',
    several: 'have a type that browsers refuse',
    remedy: 'Add the type to the configuration of the new server.',
  },
  'image-broken': {
    levels: ['warn'],
    meaning: 'An image of the new site cannot be shown.',
    several: 'cannot be shown',
    remedy: 'Deliver it again with `deliver --by-content`.',
  },
  'page-alternates-differ': {
    levels: ['warn'],
    meaning: 'A page names other translations of itself.',
    several: 'name other translations',
    remedy: 'Check the addresses of the languages in the extension that manages them.',
  },
  'page-asset-differs': {
    levels: ['warn'],
    meaning: 'A page no longer loads something, or loads something else.',
    several: 'no longer load something, or load something else',
    remedy: 'Check that the extension or theme that brings it is switched on at the new site.',
  },
  'page-blank': {
    levels: ['stop'],
    meaning: 'A page of the new site is blank.',
    several: 'are blank',
    remedy: 'Read the error log of the new server; a blank page is usually a PHP error that is not shown.',
  },
  'page-canonical-differs': {
    levels: ['warn'],
    meaning: 'A page names another canonical address.',
    several: 'name another canonical address',
    remedy: 'Check the site’s own address, and the extension that writes the canonical link.',
  },
  'page-charset-differs': {
    levels: ['warn'],
    meaning: 'A page is sent with another character set.',
    several: 'are sent with another character set',
    remedy: 'Compare the default character set of both servers.',
  },
  'page-cookie-differs': {
    levels: ['warn'],
    meaning: 'A cookie is set for another host or path, or with less protection.',
    several: 'set a cookie for another site',
    remedy: 'Correct the cookie domain and path in the site’s configuration.',
  },
  'page-cut': {
    levels: ['stop'],
    meaning: 'A page of the new site ends too early.',
    several: 'end too early',
    remedy:
      'Read the error log of the new server; a page that ends in the middle is usually a PHP error or a limit of time or memory.',
  },
  'page-database-error': {
    levels: ['stop'],
    meaning: 'The new site cannot reach its database.',
    several: 'show a database error',
    remedy: 'Check server, name, user and password of the database in the configuration.',
  },
  'page-feed-differs': {
    levels: ['warn'],
    meaning: 'A page names other feeds.',
    several: 'name other feeds',
    remedy: 'Check the feeds of the new site.',
  },
  'page-forbidden': {
    levels: ['stop'],
    meaning: 'The new site refuses a page to visitors.',
    several: 'are refused',
    remedy:
      'Check the rights of files and folders at the new end, and whether a security extension or a rule of the server refuses visitors.',
  },
  'page-form-differs': {
    levels: ['warn'],
    meaning: 'A form of a page is missing, or is sent elsewhere.',
    several: 'have other forms',
    remedy: 'Check the form at the new site, and send it once.',
  },
  'page-garbled': {
    levels: ['stop'],
    meaning: 'Letters of a page are garbled by a wrong character set.',
    several: 'have garbled letters',
    remedy:
      'Compare the character set of the database connection in both configurations, and load the finished dump again.',
  },
  'page-header-missing': {
    levels: ['warn'],
    meaning:
      'The new server does not send a header that the old one sends (protection, compression, caching).',
    several: 'lack a header that the old site sends',
    remedy: 'Set it at the new server as it is set at the old one.',
  },
  'page-header-old-host': {
    levels: ['warn'],
    meaning: 'A header of the new site names the old host.',
    several: 'name the old host in a header',
    remedy:
      'Change it in the .htaccess, the configuration of the server, or the extension that sets the header.',
  },
  'page-in-maintenance': {
    levels: ['stop'],
    meaning: 'The new site shows its maintenance page.',
    several: 'show maintenance',
    remedy:
      'End the maintenance mode of the new site (for instance remove the file .maintenance), and compare again.',
  },
  'page-indexing-differs': {
    levels: ['stop'],
    meaning: 'A page says something else to search engines than the old one.',
    several: 'tell search engines something else',
    remedy: 'Set configure.search-engines, or the setting of the new site, before the cutover.',
  },
  'page-installation': {
    levels: ['stop'],
    meaning: 'The new site shows its installation page.',
    several: 'show an installation page',
    remedy:
      'Check that the finished dump is loaded, and that the table prefix in the configuration is that of its tables.',
  },
  'page-language-differs': {
    levels: ['warn'],
    meaning: 'A page names another language.',
    several: 'name another language',
    remedy: 'Run "able-porter deliver --again", and compare again.',
  },
  'page-link-differs': {
    levels: ['warn'],
    meaning: 'A link of a page leads elsewhere, or is missing.',
    several: 'have other links',
    remedy:
      'Follow the link at the new site; change it in the page, or add a pair to rewrite.pairs and move again.',
  },
  'page-menu-differs': {
    levels: ['warn'],
    meaning: 'A menu has other links.',
    several: 'have another menu',
    remedy: 'Check the menus of the new site.',
  },
  'page-message-shown': {
    levels: ['stop'],
    meaning: 'A page shows an error, a warning or a notice of PHP to visitors.',
    several: 'show a message of PHP',
    remedy: 'Correct what the message names; set display_errors to off at the new host.',
  },
  'page-missing': {
    levels: ['stop'],
    meaning: 'A page of the old site is not found at the new one.',
    several: 'are not found',
    remedy: 'Save the permalink settings of the new site once, and check the rewrite rules of its server.',
  },
  'page-mixed-content': {
    levels: ['warn'],
    meaning: 'An encrypted page loads something without encryption.',
    several: 'load something without encryption',
    remedy: 'Change the address to https in the page, or add a pair for it to rewrite.pairs and move again.',
  },
  'page-old-address': {
    levels: ['warn'],
    meaning: 'A page still holds an address of the old site.',
    several: 'hold an old address',
    remedy:
      'Find where the new site keeps it (a cache, a file of an extension, the configuration), and change it there.',
  },
  'page-redirect-differs': {
    levels: ['warn'],
    meaning: 'A redirect of the new site leads elsewhere than that of the old one.',
    several: 'lead elsewhere than before',
    remedy: 'Compare the redirect rules of both servers and the site’s redirect extensions.',
  },
  'page-redirect-loop': {
    levels: ['stop'],
    meaning: 'The new site redirects a page in a loop.',
    several: 'are redirected in a loop',
    remedy:
      'Compare the site’s own address, the rules of its server and its redirect extensions: two of them send visitors to and fro.',
  },
  'page-sent-away': {
    levels: ['stop'],
    meaning: 'A page of the new site leads to another host.',
    several: 'lead to another host',
    remedy:
      'Check the site’s own address in its data, and the redirect rules and extensions of the new site.',
  },
  'page-sent-home': {
    levels: ['stop'],
    meaning: 'A page of the new site leads to its front page.',
    several: 'lead to the front page',
    remedy: 'Save the permalink settings of the new site once, and check the rewrite rules of its server.',
  },
  'page-sent-to-old': {
    levels: ['stop'],
    meaning: 'A page of the new site leads back to the old site.',
    several: 'lead back to the old site',
    remedy:
      'Check that the finished dump is loaded and not the one that was taken, and look for the old address in .htaccess and the configuration.',
  },
  'page-server-error': {
    levels: ['stop'],
    meaning: 'A page of the new site ends in a server error.',
    several: 'end in a server error',
    remedy:
      'Read the error log of the new server: the usual causes are a missing extension of PHP, its version, its memory limit, or a line of .htaccess that the server does not allow.',
  },
  'page-social-differs': {
    levels: ['warn'],
    meaning: 'A page says something else in its description or social tags.',
    several: 'say something else in their social tags',
    remedy: 'Check the extension that writes these tags.',
  },
  'page-source-shown': {
    levels: ['stop'],
    meaning: 'The new server shows the source of PHP instead of running it.',
    several: 'show PHP source',
    remedy: 'Let the new server run PHP; until then it shows visitors what the configuration holds.',
  },
  'page-text-differs': {
    levels: ['warn'],
    meaning: 'The text of a page differs.',
    several: 'have another text',
    remedy: 'Open old and new side by side; if nobody changed it since, deliver again.',
  },
  'page-title-differs': {
    levels: ['warn'],
    meaning: 'A page has another title.',
    several: 'have another title',
    remedy: 'Run "able-porter deliver --again", and compare again.',
  },
  'page-type-differs': {
    levels: ['stop'],
    meaning: 'A page is served as another type of content.',
    several: 'are served as another type',
    remedy: 'Check how the new server handles PHP and the types of files.',
  },
  'page-unreachable': {
    levels: ['warn'],
    meaning: 'A page did not answer, though it was asked several times.',
    several: 'did not answer',
    remedy: 'Open them yourself; if they answer, run check again.',
  },
  'permalinks-broken': {
    levels: ['stop'],
    meaning: 'Of the new site only the front page is found.',
    several: 'are not found, the front page is',
    remedy: 'Save the permalink settings of the new site once, and check the rewrite rules of its server.',
  },
} as const satisfies Readonly<Record<string, PageEntry>>;

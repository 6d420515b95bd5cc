import type { CatalogueEntry } from '../entry.js';

/** What a check finds about a site as a whole: its assets, names, search, log-in and what should not be seen. */
export const siteFindings = {
  'address-families-differ': {
    levels: ['warn'],
    meaning: 'The site answers differently over IPv4 and IPv6.',
    remedy: 'Correct the A or AAAA record, or the server’s configuration for one of them.',
  },
  'administration-broken': {
    levels: ['stop'],
    meaning: 'The administration of the new site does not open.',
    remedy: 'Read the error log of the new server; check the session folder and the site’s cookies.',
  },
  'certificate-of-new-site': {
    levels: ['warn', 'note'],
    meaning: 'The new host has no certificate that browsers accept for a name of the site.',
    remedy: 'Have it issued before the cutover.',
  },
  'extensions-differ': {
    levels: ['warn'],
    meaning: 'Other extensions are switched on than at the old site.',
    remedy: 'Compare the extensions in the administration of both sites.',
  },
  'feed-broken': {
    levels: ['warn'],
    meaning: 'A feed of the new site is missing, is no feed, or holds old addresses.',
    remedy: 'Open it at the new site; empty its caches.',
  },
  'file-fetchable': {
    levels: ['stop', 'warn'],
    meaning: 'The new site serves a file that nobody should be able to fetch.',
    remedy: 'Remove it from the web root, or let the server refuse it.',
  },
  'file-mode-differs': {
    levels: ['warn'],
    meaning: 'Files of the new end have other rights than at the old one.',
    remedy: 'Set the rights, or run `deliver --again`.',
  },
  'folder-listed': {
    levels: ['warn'],
    meaning: 'The new server lists the files of a folder to visitors.',
    remedy: 'Switch the listing off (Apache: `Options -Indexes`; nginx: `autoindex off`).',
  },
  'front-page-differs': {
    levels: ['warn'],
    meaning: 'Another page is the front page.',
    remedy: 'Compare the reading settings of both sites.',
  },
  'http-not-forwarded': {
    levels: ['warn'],
    meaning: 'The old site sends visitors of HTTP to HTTPS; the new one does not.',
    remedy: 'Set the redirect at the new server.',
  },
  'https-forced': {
    levels: ['note'],
    meaning: 'The new host sends visitors to HTTPS; it was asked over HTTPS from then on.',
    remedy: 'Nothing needs to be done.',
  },
  'interface-differs': {
    levels: ['warn'],
    meaning: 'The programming interface (REST, JSON) of the new site does not answer like the old one.',
    remedy: 'Save the permalink settings; look for a security extension that closes it.',
  },
  'login-not-tried': {
    levels: ['note'],
    meaning: 'Nobody was logged in.',
    remedy: 'Log in yourself.',
  },
  'login-refused': {
    levels: ['stop'],
    meaning: 'One cannot log in to the new site, though it works at the old one.',
    remedy: 'Check the cookie settings, the site’s address and its security extensions.',
  },
  'look-browser-missing': {
    levels: ['note'],
    meaning: 'No browser was found for `check --look`.',
    remedy: 'Install Chromium, or name it in `check.browser`.',
  },
  'look-console-error': {
    levels: ['warn'],
    meaning: 'The browser reports an error on a page of the new site that the old one does not have.',
    remedy: 'Open the page and look at the console of the browser.',
  },
  'look-differs': {
    levels: ['warn'],
    meaning: 'A page looks different at the new site.',
    remedy: 'Look at the pair in `check.html`.',
  },
  'look-request-failed': {
    levels: ['warn'],
    meaning: 'A page of the new site asks for something that does not come.',
    remedy: 'Open the page and look at the network list of the browser.',
  },
  'pages-changed-on-request': {
    levels: ['note'],
    meaning: 'Pages differ in what the sheet changes.',
    remedy: 'Nothing needs to be done.',
  },
  'pages-defects-before': {
    levels: ['note'],
    meaning: 'Pages of the new site have a defect that the old site has as well.',
    remedy: 'Correct it at the new site when the move is done.',
  },
  'pages-not-all': {
    levels: ['note'],
    meaning: 'There are more pages than were compared.',
    remedy: 'Raise `check.pages`, or look at some of them yourself.',
  },
  'pages-not-answered': {
    levels: ['warn'],
    meaning: 'Pages of the old site did not answer, so they were not compared.',
    remedy: 'Run `check` again, with `--gentle` if the old server bears little.',
  },
  'pages-not-compared': {
    levels: ['note'],
    meaning: 'The sheet does not say where the new site can be reached.',
    remedy: 'Add `new.reach`.',
  },
  'pages-slow': {
    levels: ['warn'],
    meaning: 'The new site takes much longer for its pages.',
    remedy: 'Compare the PHP settings of both hosts.',
  },
  'pages-unreachable': {
    levels: ['stop'],
    meaning: 'One of the two sites did not answer.',
    remedy: 'Check `old.reach`, `new.reach` and the servers.',
  },
  'program-file-extra': {
    levels: ['warn'],
    meaning: 'There are program files at the new end that were not delivered.',
    remedy: 'Check where they come from; remove what is not the site’s.',
  },
  'published-differs': {
    levels: ['warn'],
    meaning: 'Another number of things is published than at the old site.',
    remedy: 'Deliver again with the last changes.',
  },
  'robots-txt-differs': {
    levels: ['stop', 'warn'],
    meaning: 'The file robots.txt of the new site says something else.',
    remedy: 'Compare both, and correct the new one before the cutover.',
  },
  'script-in-uploads': {
    levels: ['stop'],
    meaning: 'A script is in a folder for uploads.',
    remedy: 'Look at it: it is often the trace of an intruder; remove it.',
  },
  'search-differs': {
    levels: ['warn'],
    meaning: 'The search of the new site does not find what the old one finds.',
    remedy: 'Search there yourself; rebuild its index.',
  },
  'sitemap-differs': {
    levels: ['warn'],
    meaning: 'A sitemap of the new site is missing, names other addresses, or pages that do not answer.',
    remedy: 'Let the site write it again.',
  },
  'theme-differs': {
    levels: ['warn'],
    meaning: 'Another theme is switched on.',
    remedy: 'Compare the themes in the administration of both sites.',
  },
  'twin-differs': {
    levels: ['warn'],
    meaning: 'The other name of the site (with or without www) does not lead to it as before.',
    remedy: 'Set the name up at the new host too.',
  },
  'unknown-address-answers': {
    levels: ['warn'],
    meaning: 'The new site answers an address that does not exist as if it did.',
    remedy: 'Look for a catch-all rule of the server, or a page that it shows instead of an error.',
  },
} as const satisfies Readonly<Record<string, CatalogueEntry>>;

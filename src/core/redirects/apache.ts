import { addressPath, formatAddress } from '../address/address.js';
import type { RedirectDialect } from './dialect.js';
import { literalPattern } from './literal-pattern.js';

/** https://httpd.apache.org/docs/2.4/mod/mod_rewrite.html */
export const apache = {
  name: 'apache',
  title: 'Apache',
  serverHeader: /apache|litespeed/i,
  file: 'redirects.htaccess',
  where: from =>
    `Put it at the top of the .htaccess in the folder that ${from.scheme}://${from.host}/ is served from.`,
  samePath(from, to) {
    const oldPath = addressPath(from).slice(1);
    const pattern = oldPath === '' ? '^/?(.*)$' : `^/?${literalPattern(oldPath)}(?:/(.*))?$`;
    const lines = [
      `# ${formatAddress(from)} and all below it have moved to ${formatAddress(to)}`,
      '<IfModule mod_rewrite.c>',
      'RewriteEngine On',
      `RewriteCond %{HTTP_HOST} ^${literalPattern(from.host)}(?::\\d+)?$ [NC]`,
    ];
    if (from.host === to.host && addressPath(to).startsWith(addressPath(from))) {
      lines.push(`RewriteCond %{REQUEST_URI} !^${literalPattern(addressPath(to))}(?:/|$)`);
    }
    lines.push(
      `RewriteRule ${pattern} ${formatAddress(to).replaceAll('%', '\\%')}/$1 [R=301,L]`,
      '</IfModule>',
    );
    return lines.join('\n') + '\n';
  },
} as const satisfies RedirectDialect;

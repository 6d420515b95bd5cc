import { addressPath, formatAddress } from '../address/address.js';
import type { RedirectDialect } from './dialect.js';
import { literalPattern } from './literal-pattern.js';

/**
 * https://caddyserver.com/docs/caddyfile/directives/redir. The path is taken from the request as it was sent, before
 * Caddy decodes it, so that encoded bytes stay as they are.
 */
export const caddy = {
  name: 'caddy',
  title: 'Caddy',
  serverHeader: /caddy/i,
  file: 'redirects.caddy',
  where: from => `Put it into the site block of ${from.host} in the Caddyfile and reload Caddy.`,
  samePath(from, to) {
    const oldPath = addressPath(from);
    const target = formatAddress(to);
    const rest = oldPath === '' ? '^/(.*)$' : `^${literalPattern(oldPath)}(?:/(.*)|(\\?.*))?$`;
    const matcher = [`vars_regexp moved {http.request.orig_uri} ${quoted(rest)}`];
    if (from.host === to.host && addressPath(to).startsWith(oldPath))
      matcher.push(
        `not vars_regexp {http.request.orig_uri} ${quoted(`^${literalPattern(addressPath(to))}(?:[/?]|$)`)}`,
      );
    return `# ${formatAddress(from)} and all below it have moved to ${target}
@moved {
	${matcher.join('\n\t')}
}
redir @moved ${quoted(`${target}/{re.moved.1}{re.moved.2}`)} 301
`;
  },
} as const satisfies RedirectDialect;

/** A token in backquotes, in which Caddyfiles read no escapes. */
function quoted(text: string): string {
  return `\`${text}\``;
}

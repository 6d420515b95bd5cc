import { addressPath, formatAddress } from '../address/address.js';
import type { RedirectDialect } from './dialect.js';
import { literalPattern } from './literal-pattern.js';

/**
 * https://nginx.org/en/docs/http/ngx_http_rewrite_module.html. The path is taken from $request_uri, which nginx
 * has not decoded, so that encoded bytes stay as they came and cannot end the header.
 */
export const nginx = {
  name: 'nginx',
  title: 'nginx',
  serverHeader: /nginx|openresty/i,
  file: 'redirects.nginx.conf',
  where: from => `Put it into the server block of ${from.host} and reload nginx.`,
  samePath(from, to) {
    const oldPath = addressPath(from);
    const target = formatAddress(to);
    const head = `# ${formatAddress(from)} and all below it have moved to ${target}\n`;
    if (oldPath === '') {
      if (from.host !== to.host) return `${head}return 301 ${target}$request_uri;\n`;
      return `${head}if ($request_uri !~ "^${literalPattern(addressPath(to))}(?:[/?]|$)") {\n    return 301 ${target}$request_uri;\n}\n`;
    }
    return `${head}location = ${oldPath} {
    return 301 ${target}/$is_args$args;
}
location ^~ ${oldPath}/ {
    if ($request_uri ~ "^${literalPattern(oldPath)}(/.*)$") {
        return 301 ${target}$1;
    }
}
`;
  },
} as const satisfies RedirectDialect;

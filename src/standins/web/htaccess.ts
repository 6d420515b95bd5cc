import { createHash } from 'node:crypto';
import { asciiLowerCase } from '../../core/redirects/redirect-of.js';

/** A request as the rules see it. */
export interface RewritableRequest {
  readonly method: string;
  readonly host: string;
  /** Path and query as they were sent. */
  readonly uri: string;
  readonly isSecure: boolean;
}

/** What rules make of a request; undefined where they leave it as it is. */
export interface Rewritten {
  readonly status: number;
  readonly location?: string;
}

interface Rule {
  readonly conditions: readonly {
    readonly of: string;
    readonly pattern: string;
    readonly flags: readonly string[];
  }[];
  readonly target: string;
  readonly flags: readonly string[];
}

/**
 * Follows the rules of `.htaccess` files as Apache does, as far as redirects need it: RewriteCond and RewriteRule with the pattern `^`
 * (https://httpd.apache.org/docs/2.4/mod/mod_rewrite.html). Anything else in the files is passed over.
 * @param read the content of the `.htaccess` in a folder below the site's, empty for the site's own; undefined where there is none
 * @param mount the path at which the folder is served
 */
export async function rewrite(
  request: RewritableRequest,
  read: (folder: string) => Promise<string | undefined>,
  mount: string,
): Promise<Rewritten | undefined> {
  const [path = '', ...query] = request.uri.split('?');
  let variables: Record<string, string> = {};
  let folder = '';
  for (let passes = 0; passes < 5; passes++) {
    const source = await read(folder);
    if (source === undefined) return undefined;
    const pass = new Pass({ ...request, path, query: query.join('?') }, variables);
    const end = pass.run(rulesOf(source));
    if (!end) return undefined;
    if (end.status !== undefined)
      return { status: end.status, ...(end.location === undefined ? {} : { location: end.location }) };
    // An internal redirect: the variables get a prefix, and the rules of the other folder are read.
    if (end.location === path) folder = '';
    else {
      const isBelow = end.location!.startsWith(`${mount}/`);
      folder = end.location!.slice(isBelow ? mount.length + 1 : 1).replace(/\/$/, '');
    }
    variables = { REDIRECT_STATUS: '200' };
    for (const [name, value] of Object.entries(pass.variables)) variables[`REDIRECT_${name}`] = value;
  }
  return undefined;
}

class Pass {
  readonly variables: Record<string, string>;
  private readonly request: RewritableRequest & { readonly path: string; readonly query: string };
  private groups: readonly string[] = [];

  constructor(request: Pass['request'], variables: Readonly<Record<string, string>>) {
    this.request = request;
    this.variables = { ...variables };
  }

  run(rules: readonly Rule[]): { readonly status?: number; readonly location?: string } | undefined {
    for (const { conditions, target, flags } of rules) {
      if (!this.allHold(conditions)) continue;
      for (const flag of flags)
        if (flag.startsWith('E=')) {
          const [, name, value] = /^E=([^:]+):(.*)$/s.exec(flag)!;
          this.variables[name!] = this.expand(value!);
        }
      if (flags.includes('G')) return { status: 410 };
      const redirect = flags.find(flag => /^R=\d+$/.test(flag));
      const location = target === '-' ? undefined : this.expand(target);
      if (redirect && location === undefined) return { status: Number(redirect.slice(2)) };
      if (redirect && location !== undefined) {
        const keeps = !location.includes('?') && !flags.includes('QSD') && this.request.query !== '';
        return {
          status: Number(redirect.slice(2)),
          location: keeps ? `${location}?${this.request.query}` : location,
        };
      }
      if (location !== undefined && flags.includes('L')) return { location };
    }
    return undefined;
  }

  /** Conditions are joined by "and", those with the flag OR with the next one by "or". */
  private allHold(conditions: Rule['conditions']): boolean {
    let isOneOf = false;
    for (const one of conditions) {
      const holds: boolean = isOneOf || this.holds(one);
      if (one.flags.includes('OR')) isOneOf = holds;
      else if (!holds) return false;
      else isOneOf = false;
    }
    return true;
  }

  private holds({ of, pattern, flags }: Rule['conditions'][number]): boolean {
    if (of === 'expr') return this.holdsMd5(pattern);
    const text = this.expand(of);
    const isNot = pattern.startsWith('!');
    const wanted = isNot ? pattern.slice(1) : pattern;
    const noCase = flags.includes('NC');
    if (wanted.startsWith('<')) return text < wanted.slice(1) !== isNot;
    if (wanted.startsWith('=')) {
      const [a, b] = noCase
        ? [asciiLowerCase(text), asciiLowerCase(wanted.slice(1))]
        : [text, wanted.slice(1)];
      return (a === b) !== isNot;
    }
    const found = new RegExp(wanted, noCase ? 'si' : 's').exec(text);
    if (found && !isNot) this.groups = found.map(group => group ?? '');
    return (found !== null) !== isNot;
  }

  /** `md5(%{ENV:x}) =~ /^(..)/` */
  private holdsMd5(expression: string): boolean {
    const [, lower, variable, pattern] =
      /^md5\((tolower\()?%\{ENV:(\w+)\}\)?\) =~ \/(.*)\/$/.exec(expression) ?? [];
    if (variable === undefined) return false;
    const value = this.variables[variable] ?? '';
    const hash = createHash('md5')
      .update(lower ? asciiLowerCase(value) : value, 'latin1')
      .digest('hex');
    const found = new RegExp(pattern!).exec(hash);
    if (found) this.groups = [...found];
    return found !== null;
  }

  private expand(text: string): string {
    return text.replace(/\\(.)|%(\d)|%\{(\w+)(?::(\w+))?\}/gs, (_, escaped, group, name, variable) => {
      if (escaped !== undefined) return escaped;
      if (group !== undefined) return this.groups[Number(group)] ?? '';
      if (variable !== undefined) return this.variables[variable] ?? '';
      const { method, host, uri, isSecure, path, query } = this.request;
      const values: Record<string, string> = {
        HTTP_HOST: host,
        HTTPS: isSecure ? 'on' : 'off',
        THE_REQUEST: `${method} ${uri} HTTP/1.1`,
        REQUEST_METHOD: method,
        REQUEST_URI: path,
        QUERY_STRING: query,
        TIME: new Date().toISOString().replace(/\D/g, '').slice(0, 14),
      };
      return values[name] ?? '';
    });
  }
}

/** The rules of a file, each with its conditions. */
function rulesOf(source: string): Rule[] {
  const rules: Rule[] = [];
  let conditions: Rule['conditions'][number][] = [];
  for (const line of source.split('\n')) {
    const [word, first, second, flags] = wordsOf(line);
    if (word === 'RewriteCond' && first !== undefined && second !== undefined)
      conditions.push({ of: first, pattern: second, flags: flagsOf(flags) });
    if (word !== 'RewriteRule' || second === undefined) continue;
    if (first === '^') rules.push({ conditions, target: second, flags: flagsOf(flags) });
    conditions = [];
  }
  return rules;
}

/** The words of a line; those between double quotes may hold spaces. */
function wordsOf(line: string): string[] {
  const words = line.trim().match(/"(?:[^"\\]|\\.)*"|\S+/gs) ?? [];
  return words.map(word => (word.startsWith('"') ? word.slice(1, -1).replaceAll('\\"', '"') : word));
}

function flagsOf(text: string | undefined): string[] {
  return text?.startsWith('[') ? text.slice(1, -1).split(',') : [];
}

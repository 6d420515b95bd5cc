import { type ByteString, textOf } from '../../bytes.js';
import { readDotenv } from './source/dotenv.js';
import { readPhp } from './source/php-settings.js';

const secretName =
  /pass(?:word|wd|phrase)?(?![a-z])|pwd|secret|credential|token|(?<![a-z])salt(?![a-z])|(?<![a-z])(?:auth|logged_in|nonce|api|private|license|smtp|encryption)_?key|_key(?![a-z])/i;
const hidden = '••••';

/**
 * Two states of a file as texts that may be shown: whatever a secret's name leads to is hidden, and where the two
 * have different secrets under one name, which is reported.
 */
export function maskedPair(
  path: string,
  before: ByteString,
  after: ByteString,
): { before: string; after: string } {
  const secrets = { before: secretsIn(path, before), after: secretsIn(path, after) };
  const differs = (name: string) => secrets.before.get(name)?.value !== secrets.after.get(name)?.value;
  return {
    before: masked(before, secrets.before, name => (differs(name) ? `${hidden} old` : hidden)),
    after: masked(after, secrets.after, name => (differs(name) ? `${hidden} new` : hidden)),
  };
}

interface Secret {
  readonly value: ByteString | undefined;
  readonly start: number;
  readonly end: number;
}

function secretsIn(path: string, source: ByteString): Map<string, Secret> {
  const found = new Map<string, Secret>();
  const settings = path.endsWith('.php')
    ? (readPhp(path, new Map([[path, source]]))?.values ?? new Map<string, Secret>())
    : readDotenv(source);
  for (const [name, { value, start, end }] of settings)
    if (secretName.test(name)) found.set(name, { value, start, end });
  return found;
}

function masked(
  source: ByteString,
  secrets: ReadonlyMap<string, Secret>,
  shown: (name: string) => string,
): string {
  let text = '';
  let at = 0;
  for (const [name, { start, end }] of [...secrets].sort(([, a], [, b]) => a.start - b.start)) {
    if (start < at) continue;
    text += `${textOf(source.slice(at, start))}'${shown(name)}'`;
    at = end;
  }
  text += textOf(source.slice(at));
  return (
    text
      .split('\n')
      // A setting that is commented out, or of a language that is not parsed here, may give a secret away too.
      .map(line => (secretName.test(line) && !line.includes(hidden) ? withoutValues(line) : line))
      .join('\n')
  );
}

/** A line with what it sets hidden: the last quoted string, or what is last. */
function withoutValues(line: string): string {
  const quoted = line.replace(/(['"])(?:(?!\1)[^\\]|\\.)*\1(?=[^'"]*$)/, `'${hidden}'`);
  return quoted === line ? line.replace(/(=\s*|\s)[^\s=]+(\s*)$/, `$1${hidden}$2`) : quoted;
}

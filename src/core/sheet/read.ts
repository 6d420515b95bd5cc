import { formatAddress, parseAddress } from '../address/address.js';
import { parsePair } from '../address/pairs.js';
import { PorterError } from '../errors.js';
import { readCheckedYaml, sheetForm, type TakeMistake } from './checked-yaml.js';
import { type Sheet, sheetSchema } from './schema.js';

/**
 * Reads a sheet from its YAML text.
 * @param variable gives the value of `${NAME}`, or undefined where it is not set
 * @throws SheetError with every mistake and its line
 */
export function readSheet(text: string, file: string, variable: (name: string) => string | undefined): Sheet {
  return readCheckedYaml(text, file, {
    form: sheetForm,
    schema: sheetSchema,
    variable,
    check: checkAddresses,
    make: checked => withDefaults(checked as Sheet),
  });
}

function withDefaults(sheet: Sheet): Sheet {
  const { files, database } = sheet.take;
  return {
    ...sheet,
    take: { files: files ?? { without: [] }, database: database ?? { tables: { without: [] } } },
  };
}

/** What Yup cannot see: that addresses can be read, differ, and that pairs make sense. */
function checkAddresses(raw: Record<string, unknown>, mistake: TakeMistake): void {
  const attempt = (path: (string | number)[], read: () => void) => {
    try {
      read();
    } catch (error) {
      if (!(error instanceof PorterError)) throw error;
      mistake(path, `${error.details.cause}. ${error.details.remedy}`);
    }
  };
  const at = (path: (string | number)[]): unknown =>
    path.reduce<unknown>((value, key) => (value as Record<string | number, unknown> | undefined)?.[key], raw);
  const paths: (string | number)[][] = [
    ['old', 'address'],
    ['new', 'address'],
    ['old', 'reach'],
    ['new', 'reach'],
    ['old', 'reach-https'],
    ['new', 'reach-https'],
  ];
  const also = at(['old', 'also']);
  if (Array.isArray(also)) for (const i of also.keys()) paths.push(['old', 'also', i]);
  for (const path of paths) {
    const value = at(path);
    if (typeof value === 'string') attempt(path, () => parseAddress(value));
  }
  attempt(['new', 'address'], () => {
    const [from, to] = [at(['old', 'address']), at(['new', 'address'])];
    if (typeof from !== 'string' || typeof to !== 'string' || !URL.canParse(from) || !URL.canParse(to))
      return;
    if (/[?#]/.test(from + to)) return;
    if (formatAddress(parseAddress(from)) === formatAddress(parseAddress(to))) {
      if (at(['old', 'files']) === at(['new', 'files'])) {
        mistake(
          ['new', 'address'],
          'is the old address, and the files are the same; there is nothing to move',
        );
      }
    }
  });
  const pairs = at(['rewrite', 'pairs']);
  if (!Array.isArray(pairs)) return;
  pairs.forEach((pair: { from?: unknown; to?: unknown }, i) => {
    const { from, to } = pair ?? {};
    if (typeof from === 'string' && typeof to === 'string')
      attempt(['rewrite', 'pairs', i], () => parsePair(from, to));
  });
}

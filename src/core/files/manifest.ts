import { array, number, object, string, ValidationError } from 'yup';
import { DamageError } from '../errors.js';

const count = number().strict().integer().min(0).required();
const text = string().strict();

/** A file of the crate itself: never one that is outside of it, or hidden in it. */
const partName = /^\w[\w.-]*$/;
const part = object({
  bytes: count,
  sha256: text.matches(/^[0-9a-f]{64}$/).required(),
}).noUnknown();

const manifest = object({
  format: text.oneOf(['able-porter crate']).required(),
  version: number().strict().oneOf([1]).required(),
  taken: text.required(),
  by: text.required(),
  note: text,
  from: object({
    address: text.required(),
    family: text.matches(/^[a-z]+$/).required(),
    prefix: text.max(64),
    charset: text.matches(/^\w*$/),
    spoken: text.matches(/^\w*$/),
    configuration: text
      .matches(/^(?:\.\.\/)?[^/\0]/)
      .test('inside', 'must stay beside the site', staysBeside),
  })
    .noUnknown()
    .required(),
  counts: object({ files: count, folders: count, links: count, bytes: count, tables: count, rows: count })
    .noUnknown()
    .required(),
  tables: array(object({ table: text.max(256).required(), rows: count }).noUnknown()).required(),
}).noUnknown();

/** At most one step up, at its beginning. */
function staysBeside(path: string | undefined): boolean {
  return (
    path === undefined ||
    !path
      .replace(/^\.\.\//, '')
      .split('/')
      .includes('..')
  );
}

/**
 * Checks what `crate.json` says.
 * @throws DamageError that names the field which is wrong
 */
export function checkManifest(read: unknown, doing: string): void {
  const { parts, ...rest } = (read ?? {}) as { parts?: unknown };
  const damaged = (cause: string, error?: unknown) =>
    new DamageError({ doing, cause, remedy: 'Pack again with this version' }, { cause: error });
  const check = (schema: typeof manifest | typeof part, value: unknown, before: string) => {
    try {
      schema.validateSync(value, { strict: true });
    } catch (error) {
      if (!(error instanceof ValidationError)) throw error;
      throw damaged(
        `its crate.json is not of a format that this version knows: ${before}${error.message}`,
        error,
      );
    }
  };
  check(manifest, rest, '');
  if (typeof parts !== 'object' || parts === null) throw damaged('its crate.json names no parts');
  for (const [name, value] of Object.entries(parts)) {
    if (!partName.test(name))
      throw damaged(`its crate.json names a part that is not in it: ${JSON.stringify(name)}`);
    check(part, value, `parts[${JSON.stringify(name)}].`);
  }
}

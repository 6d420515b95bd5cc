import { asBytes, type ByteString } from '../bytes.js';

/** What a server has, as far as a dump must be fitted to it. */
export interface ServerHas {
  readonly charsets: ReadonlySet<string>;
  readonly collations: ReadonlySet<string>;
}

/** What was changed in the statements of a dump so that a server takes them, and how often. */
export type Fitted = Map<string, number>;

/** Collations by which text is put in order much as by the newer ones. */
const fallbacks: Readonly<Record<string, readonly string[]>> = {
  utf8mb4: ['utf8mb4_unicode_520_ci', 'utf8mb4_unicode_ci', 'utf8mb4_general_ci'],
  utf8mb3: ['utf8mb3_unicode_ci', 'utf8_unicode_ci', 'utf8mb3_general_ci', 'utf8_general_ci'],
};

/** Modes that newer servers no longer know; saying them ends a load. */
const goneModes =
  /\b(?:NO_AUTO_CREATE_USER|NO_FIELD_OPTIONS|NO_KEY_OPTIONS|NO_TABLE_OPTIONS|POSTGRESQL|ORACLE|MSSQL|DB2|MAXDB|MYSQL323|MYSQL40),?/gi;

/**
 * Fits a statement that is not an INSERT to a server: collations and character sets that it lacks become the nearest
 * it has, who defined a view or a program is left out (so that the account that loads it does), modes that are gone too.
 * Strings and quoted names are left as they are, but for the mode of a SET.
 * @param only `definer`: nothing but who defined it
 */
export function fitStatement(sql: ByteString, has: ServerHas, fitted: Fitted, only?: 'definer'): ByteString {
  const note = (what: string) => fitted.set(what, (fitted.get(what) ?? 0) + 1);
  if (/^(?:\/\*!\d*\s*)?set\b/i.test(sql)) {
    return asBytes(
      sql.replace(/\bsql_mode\s*=\s*'[^']*'/i, whole =>
        whole.replace(goneModes, mode => {
          note(`SQL mode ${mode.replace(',', '').toUpperCase()} left out`);
          return '';
        }),
      ),
    );
  }
  return asBytes(
    sql.replace(pieces, (whole: string, definer?: string, collation?: string, charset?: string) => {
      if (definer !== undefined) {
        note('DEFINER left out');
        return '';
      }
      if (only === 'definer') return whole;
      if (collation !== undefined) {
        const next = nearestCollation(collation, has);
        if (next === collation) return whole;
        note(`${collation} → ${next}`);
        return whole.slice(0, whole.length - collation.length) + next;
      }
      if (charset !== undefined) {
        const next = nearestCharset(charset, has);
        if (next === charset) return whole;
        note(`${charset} → ${next}`);
        return whole.slice(0, whole.length - charset.length) + next;
      }
      return whole;
    }),
  );
}

const pieces =
  /'(?:[^'\\]|\\.|'')*'|"(?:[^"\\]|\\.|"")*"|(\bDEFINER\s*=\s*(?:`(?:[^`]|``)*`|'[^']*'|\w+)@(?:`(?:[^`]|``)*`|'[^']*'|[\w.%-]+)\s*)|`(?:[^`]|``)*`|\bCOLLATE[ =]\s*(\w+)|\b(?:CHARSET|CHARACTER SET)[ =]\s*(\w+)/gis;

function nearestCollation(collation: string, has: ServerHas): string {
  const { collations } = has;
  const name = collation.toLowerCase();
  const [charset = '', ...rest] = name.split('_');
  const kind = rest.join('_');
  // MariaDB lists those of the newer Unicode rules once for all character sets.
  if (collations.has(name) || (collations.has(kind) && knowsCharset(charset, has))) return collation;
  const near = knownCharset(charset, has);
  const wanted = [
    `${near}_${kind}`,
    ...(/_bin$/.test(name) ? [`${near}_bin`] : []),
    ...(fallbacks[near] ?? []),
  ];
  const found = wanted.find(one => collations.has(one));
  return found ?? [...collations].find(one => one.startsWith(`${near}_`)) ?? collation;
}

function nearestCharset(charset: string, has: ServerHas): string {
  return knowsCharset(charset.toLowerCase(), has) ? charset : knownCharset(charset.toLowerCase(), has);
}

/** One character set under its old and its new name: servers take both, and list one. */
const twins: Readonly<Record<string, string>> = { utf8: 'utf8mb3', utf8mb3: 'utf8' };

function knowsCharset(name: string, { charsets }: ServerHas): boolean {
  return charsets.has(name) || charsets.has(twins[name] ?? '');
}

/** The name under which a server lists a character set, or the one that it has for all. */
function knownCharset(name: string, { charsets }: ServerHas): string {
  return [name, twins[name], 'utf8mb4'].find(one => one !== undefined && charsets.has(one)) ?? name;
}

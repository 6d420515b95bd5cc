import { unquoteName } from './tokens.js';

/** What a CREATE TABLE says of a table, as far as reading its rows needs it. */
export interface TableShape {
  readonly name: string;
  readonly columns: readonly string[];
  /** By column: its type without length, in small letters, and whether it is computed from others. */
  readonly types: readonly { readonly type: string; readonly generated: boolean }[];
}

const create =
  /^(?:\/\*!\d*\s*)?create\s+(?:temporary\s+)?table\s+(?:if\s+not\s+exists\s+)?((?:`(?:[^`]|``)+`|"[^"]+"|[\w$\x80-\xff]+)(?:\.(?:`(?:[^`]|``)+`|"[^"]+"|[\w$\x80-\xff]+))?)\s*\(/i;
const notColumns = /^(?:primary|key|unique|index|constraint|fulltext|spatial|check|foreign|period|like)\b/i;

/** Reads a CREATE TABLE statement; undefined for any other. */
export function readCreateTable(statement: string): TableShape | undefined {
  const found = create.exec(statement);
  if (!found) return undefined;
  const columns: string[] = [];
  const types: { type: string; generated: boolean }[] = [];
  for (const definition of definitions(statement, found[0].length)) {
    const name = /^(?:`(?:[^`]|``)+`|"[^"]+"|[\w$\x80-\xff]+)/.exec(definition)?.[0];
    if (name && (name[0] === '`' || name[0] === '"' || !notColumns.test(definition))) {
      const rest = definition.slice(name.length);
      columns.push(unquoteName(name));
      types.push({
        type: /^\s*(\w*)/.exec(rest)![1]!.toLowerCase(),
        generated: /^[^']*?\b(?:GENERATED\s+ALWAYS\s+)?AS\s*\(/i.test(rest),
      });
    }
  }
  return { name: unquoteName(found[1]!), columns, types };
}

/** The comma-separated definitions between a table's brackets. */
function* definitions(s: string, from: number): Generator<string> {
  const stops = /'(?:[^'\\]|\\.|'')*'|`(?:[^`]|``)*`|"(?:[^"\\]|\\.|"")*"|[(),]/gs;
  stops.lastIndex = from;
  let depth = 1;
  let start = from;
  for (let found = stops.exec(s); found && depth > 0; found = stops.exec(s)) {
    if (found[0] === '(') depth++;
    else if (found[0] === ')') depth--;
    if ((found[0] === ',' && depth === 1) || depth === 0) {
      yield s.slice(start, found.index).trim();
      start = stops.lastIndex;
    }
  }
}

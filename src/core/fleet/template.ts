import { UsageError } from '../errors.js';
import { asLiteral } from '../sheet/variables.js';
import type { SiteRow } from './table.js';

/** `${` is a variable's, `{{` a brace; `{column}` is a place to fill. */
const places = /\$\{|\{\{|\{([A-Za-z][^{}]*)\}/g;

/**
 * Fills the places of a template with the values of a site. A text that holds places alone, all of them empty, is left
 * out with its key.
 * @param name the site's
 * @throws UsageError for a place that no column is for
 */
export function fillTemplate(template: unknown, row: SiteRow, name: string): unknown {
  const values: SiteRow = { ...row, name };
  return fill(template, column => {
    // A table may hold what a site says: only the template names variables.
    const key = column.toLowerCase();
    const exact = Object.hasOwn(values, key) ? values[key] : undefined;
    // For the names of variables: {NAME} is SALT_MARSH where the name is salt-marsh.
    const isLoud = column === column.toUpperCase() && column !== column.toLowerCase();
    if (exact !== undefined) return isLoud ? loud(exact) : asLiteral(exact);
    throw new UsageError({
      doing: `Making the sheet of ${name}`,
      cause: `the template has {${column}}, and the table no such column`,
      remedy: `Add the column, or write {{${column}} where the braces are meant`,
    });
  });
}

function loud(value: string): string {
  return value.toUpperCase().replace(/\W/g, '_');
}

function fill(value: unknown, filledBy: (column: string) => string): unknown {
  if (typeof value === 'string') return fillText(value, filledBy);
  if (Array.isArray(value)) return value.map(one => fill(one, filledBy)).filter(one => one !== undefined);
  if (typeof value !== 'object' || value === null) return value;
  const entries = Object.entries(value).map(([key, inner]) => [key, fill(inner, filledBy)] as const);
  return Object.fromEntries(entries.filter(([, inner]) => inner !== undefined));
}

function fillText(text: string, filledBy: (column: string) => string): string | undefined {
  let filled = false;
  let isEmpty = true;
  const result = text.replace(places, (whole, column: string | undefined) => {
    if (column === undefined) return whole === '{{' ? '{' : whole;
    const value = filledBy(column.trim());
    filled = true;
    if (value !== '') isEmpty = false;
    return value;
  });
  return filled && isEmpty && text.replace(places, '').trim() === '' ? undefined : result;
}

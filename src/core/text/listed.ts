/** The first few of a list, with a sign that there are more. */
export function listed(items: readonly string[], most = 4): string {
  return `${items.slice(0, most).join(', ')}${items.length > most ? ', …' : ''}`;
}

/** Puts values in the place of `${NAME}`; `$$` is a dollar sign. */
export function putVariablesInto(text: string, variable: (name: string) => string): string {
  return text.replace(/\$\$|\$\{(\w+)\}/g, (_whole, name: string | undefined) =>
    name === undefined ? '$' : variable(name),
  );
}

/** What a sheet says for a text that holds no variable, whatever it looks like: that of a site may be meant to read a secret. */
export function asLiteral(text: string): string {
  return text.replaceAll('$', '$$$$');
}

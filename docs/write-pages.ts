/** Writes the pages that are derived from the code and its tables. Usage: npm run docs */
import { spawnSync } from 'node:child_process';
import { mkdirSync, writeFileSync } from 'node:fs';
import { fileURLToPath } from 'node:url';
import { exitCodeMeanings } from '../src/core/errors.js';
import { catalogue } from '../src/core/findings/catalogue/catalogue.js';
import { dialects, usualDialect } from '../src/core/redirects/dialects/dialects.js';
import { sheetJsonSchema } from '../src/core/sheet/json-schema.js';
import { families } from '../src/core/site/families/families.js';
import { protocols } from '../src/ends/files/protocols.js';

const program = fileURLToPath(new URL('../dist/cli/main.js', import.meta.url));
const help = (...args: string[]) =>
  spawnSync(process.execPath, [program, ...args, '--help'], { encoding: 'utf8' }).stdout;

/** The pages of the commands by name, each as it should be. */
export function commandPages(): Map<string, string> {
  const names = [...help().matchAll(/^ {2}able-porter (\w+)/gm)].map(([, name]) => String(name));
  return new Map(
    names.map(name => [name, `# able-porter ${name}\n\n\`\`\`\n${help(name).trim()}\n\`\`\`\n`]),
  );
}

/** The page of all findings. */
export function findingsPage(): string {
  const rows = Object.entries(catalogue)
    .sort(([a], [b]) => (a < b ? -1 : 1))
    .map(
      ([code, { levels, meaning, remedy }]) =>
        `| \`${code}\` | ${levels.join(' or ')} | ${meaning} | ${remedy} |`,
    );
  return `# Findings

A finding is something that a step saw, with a stable code, the place where it was seen, and what to do. Its level says
how grave it is: \`stop\`, the move must not continue (exit code 1); \`warn\`, look at it first; \`note\`, good to know.

| code | level | meaning | remedy |
|---|---|---|---|
${rows.join('\n')}
`;
}

/** The page of the exit codes. */
export function exitCodesPage(): string {
  const rows = exitCodeMeanings.map(({ code, meaning, next }) => `| ${code} | ${meaning} | ${next} |`);
  return `# Exit codes

Every command ends with one of these, so that a script can decide by it.

| code | meaning | what to do |
|---|---|---|
${rows.join('\n')}
`;
}

/** The page of what works without being named in a sheet: families, protocols, redirect dialects. */
function supportedPage(): string {
  const list = (values: readonly string[]) => values.map(value => `\`${value}\``).join(', ') || '–';
  const familyRows = families.map(
    ({ name, marks, sets }) =>
      `| \`${name}\` | ${marks.map(list).join(' or ') || 'no other family is recognised'} | ${list(sets)} |`,
  );
  const protocolRows = protocols.map(
    ({ schemes, example, takesKey }) =>
      `| ${list(schemes)} | \`${example}\` | ${takesKey ? 'password, private key or agent' : 'password'} |`,
  );
  const dialectRows = dialects.map(
    ({ name, title, folder }) => `| \`${name}\` | ${title} | \`redirects/${folder}/\` |`,
  );
  return `# What is supported

## Families of sites

A family says where a kind of site keeps its configuration and its addresses.

| family | recognised by its files | what \`configure\` can set besides |
|---|---|---|
${familyRows.join('\n')}

## Protocols

| scheme | example | login |
|---|---|---|
${protocolRows.join('\n')}

Where there is only FTP, \`hatch: true\` lets files and the database pass through a PHP file that is put into the web root
([the hatch](hatch.md)).

## Redirect dialects

\`redirects\` writes the rules for each into a folder of its own; small pages (\`static\`) only where they are asked for.
\`redirects.server\` in the sheet names the one that is shown first, usually \`${usualDialect}\`.

| dialect | web server | folder |
|---|---|---|
${dialectRows.join('\n')}
`;
}

/** Pages and files by their path in this folder. */
export function writtenPages(): Map<string, string> {
  return new Map([
    ['findings.md', findingsPage()],
    ['exit-codes.md', exitCodesPage()],
    ['supported.md', supportedPage()],
    ['move.schema.json', `${JSON.stringify(sheetJsonSchema(), undefined, 2)}\n`],
  ]);
}

if (process.argv[1] === fileURLToPath(import.meta.url)) {
  const folder = fileURLToPath(new URL('.', import.meta.url));
  mkdirSync(`${folder}commands`, { recursive: true });
  for (const [name, page] of commandPages()) writeFileSync(`${folder}commands/${name}.md`, page);
  for (const [path, page] of writtenPages()) writeFileSync(folder + path, page);
}

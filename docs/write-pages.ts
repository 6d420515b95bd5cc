/** Writes the pages that follow from the code: the commands' help, the findings, the exit codes, the sheet's schema. Usage: npm run docs */
import { spawnSync } from 'node:child_process';
import { mkdirSync, writeFileSync } from 'node:fs';
import { fileURLToPath } from 'node:url';
import { exitCodeMeanings } from '../src/core/errors.js';
import { catalogue } from '../src/core/findings/catalogue.js';
import { sheetJsonSchema } from '../src/core/sheet/json-schema.js';

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
  const rows = Object.entries(catalogue).map(
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

/** Pages and files by their path in this folder. */
export function writtenPages(): Map<string, string> {
  return new Map([
    ['findings.md', findingsPage()],
    ['exit-codes.md', exitCodesPage()],
    ['move.schema.json', `${JSON.stringify(sheetJsonSchema(), undefined, 2)}\n`],
  ]);
}

if (process.argv[1] === fileURLToPath(import.meta.url)) {
  const folder = fileURLToPath(new URL('.', import.meta.url));
  mkdirSync(`${folder}commands`, { recursive: true });
  for (const [name, page] of commandPages()) writeFileSync(`${folder}commands/${name}.md`, page);
  for (const [path, page] of writtenPages()) writeFileSync(folder + path, page);
}

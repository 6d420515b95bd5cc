/** Writes docs/commands/ from what the built program's --help says. Usage: npm run docs */
import { spawnSync } from 'node:child_process';
import { mkdirSync, writeFileSync } from 'node:fs';
import { fileURLToPath } from 'node:url';

const program = fileURLToPath(new URL('../dist/cli/main.js', import.meta.url));
const help = (...args: string[]) =>
  spawnSync(process.execPath, [program, ...args, '--help'], { encoding: 'utf8' }).stdout;

/** The pages by name, each as it should be. */
export function commandPages(): Map<string, string> {
  const names = [...help().matchAll(/^ {2}able-porter (\w+)/gm)].map(found => found[1]!);
  return new Map(
    names.map(name => [name, `# able-porter ${name}\n\n\`\`\`\n${help(name).trim()}\n\`\`\`\n`]),
  );
}

if (process.argv[1] === fileURLToPath(import.meta.url)) {
  const folder = fileURLToPath(new URL('commands/', import.meta.url));
  mkdirSync(folder, { recursive: true });
  for (const [name, page] of commandPages()) writeFileSync(`${folder}${name}.md`, page);
}

import { addressPath } from '../../core/address/address.js';
import { type Finding, finding } from '../../core/findings/findings.js';
import type { Move } from '../move/open.js';
import type { Site } from '../move/read-site.js';

/** What an administrator should know of a site whose program is in a folder of its own. */
export function frontFindings({ oldPlace, newFiles, oldAddress }: Move, { front }: Site): Finding[] {
  if (!front || !oldPlace) return [];
  if (front.is === 'here') {
    const program = oldPlace.below(front.program).text;
    return [
      finding({
        level: 'stop',
        code: 'program-within',
        place: oldPlace.text,
        what: `This is the web root of a ${front.family} site whose program is in its folder ${front.program}`,
        remedy: `Write old.files: ${program}; what loads it from the web root is taken too. Let new.files end with /${front.program}`,
      }),
    ];
  }
  const { name, above } = oldPlace;
  const files = front.files.join(', ');
  const isRenamed = newFiles !== undefined && newFiles.name !== name;
  const findings = [
    finding({
      level: isRenamed ? 'warn' : 'note',
      code: 'front-above',
      place: above.text,
      what: `Visitors come in by this folder, which loads the site from ${name}; its ${files} ${front.files.length === 1 ? 'is' : 'are'} taken too`,
      remedy: isRenamed
        ? `The folder of new.files has another name: let it end with /${name}, or add rewrite.pairs from …/${name} to …/${newFiles.name} for the addresses of the program`
        : `Make sure that the folder above ${newFiles ?? 'new.files'} is the new site's web root`,
    }),
  ];
  if (addressPath(oldAddress).endsWith(`/${name}`)) {
    findings.push(
      finding({
        level: 'warn',
        code: 'front-address',
        place: 'old.address',
        what: `This is the address of the program in ${name}; visitors find the site one level above`,
        remedy: `Write the address without /${name}, at the new end too; it covers both`,
      }),
    );
  }
  return findings;
}

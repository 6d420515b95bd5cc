import { textOf } from '../../core/bytes.js';
import type { CheckedEntry } from '../../core/files/entries.js';
import { type Finding, finding } from '../../core/findings/findings.js';
import { type FactName, isSecret, oneFile, shownSource } from '../../core/site/configuration/source/facts.js';
import type { Family } from '../../core/site/families/family.js';
import { planConfiguration } from '../deliver/site/plan-configuration.js';
import type { Move } from '../move/open.js';
import { readSmall, type Site, treeOf } from '../move/read-site.js';

/** One fact of the configuration, as it may be shown. */
export interface ShownFact {
  readonly fact: FactName;
  /** Undefined where it is computed when the site runs; a secret is reported as such. */
  readonly value: string | undefined;
  readonly place: string;
}

/** A database that some configuration in the tree names. */
export interface DatabaseCandidate {
  readonly file: string;
  readonly name: string;
  readonly prefix: string | undefined;
  readonly host: string | undefined;
  /** Whether it is the one that the site uses. */
  readonly used: boolean;
}

/** Every fact of the configuration, with its place. */
export function shownFacts({ facts }: Site): ShownFact[] {
  return (Object.entries(facts ?? {}) as [FactName, NonNullable<Site['facts']>['name'] & object][]).map(
    ([fact, { value, file, line }]) => ({
      fact,
      value: value === undefined ? undefined : isSecret(fact) ? '(a secret, not shown)' : textOf(value),
      place: `${file}:${line}`,
    }),
  );
}

/** What would trouble the move in the old site's configuration. */
export async function configurationFindings(move: Move, site: Site): Promise<Finding[]> {
  const { family, configuration, facts } = site;
  const at = (path: string) => `${move.oldFiles}/${path}`;
  if (configuration === undefined) {
    return needsConfiguration(family)
      ? [configurationMissing(at(family.configurations[0] ?? ''), family)]
      : [];
  }
  if (!facts) {
    return [
      finding({
        level: 'stop',
        code: 'configuration-unreadable',
        place: at(configuration),
        what: 'The configuration cannot be parsed, or is larger than 1 MiB',
        remedy: 'Open it and correct what is wrong; a working site’s configuration can be parsed',
      }),
    ];
  }
  const findings: Finding[] = [];
  const above = [...site.files.sources.keys()].filter(
    path => path.startsWith('../') && site.files.sources.get(path) !== undefined,
  );
  if (above.length > 0)
    findings.push(
      configurationAbove(
        move,
        above.map(path => ({ path: path.slice(3) })),
      ),
    );
  const missing = needsConfiguration(family) ? essential.filter(fact => !facts[fact]) : [];
  if (missing.length > 0) {
    findings.push(
      finding({
        level: 'warn',
        code: 'configuration-elsewhere',
        place: at(configuration),
        what: `Neither it nor a file that it includes names the ${missing.join(', ')} of the database`,
        remedy: 'Set the right values at the new host by hand',
      }),
    );
  }
  for (const { file, line, source } of site.unread) {
    findings.push(
      finding({
        level: 'warn',
        code: 'configuration-include',
        place: `${at(file)}:${line}`,
        what: `What it includes here was not read (${source.slice(0, 60)})`,
        remedy: 'Check whether that file names a database, an address or a path of the old host',
      }),
    );
  }
  if (!move.oldFiles) return findings;
  const tree = treeOf(move.oldFiles);
  const finalPlace = move.oldFiles.text;
  const planned = await planConfiguration(move, family, { tree, main: configuration, finalPlace });
  const byHand = planned.findings.filter(({ code }) => code !== 'keys-fresh');
  const reported = new Set(byHand.map(({ place }) => place));
  for (const [fact, { computed, fromEnvironment, file, line, source, value }] of entriesOf(facts)) {
    const place = `${at(file)}:${line}`;
    if (computed && !reported.has(place)) {
      findings.push(
        finding({
          level: 'warn',
          code: 'configuration-computed',
          place,
          what: `The ${fact} is computed when the site runs (${shownSource(fact, source)})`,
          remedy: 'Make sure by hand that it is right at the new host',
        }),
      );
    } else if (fromEnvironment && (essential as readonly string[]).includes(fact)) {
      findings.push(
        finding({
          level: 'note',
          code: 'configuration-environment',
          place,
          what: `The ${fact} comes from the environment; ${file} sets it to ${isSecret(fact) ? 'a secret' : textOf(value!)}`,
          remedy: 'If the new host sets the variable itself, change it there; that value wins',
        }),
      );
    }
  }
  return [...findings, ...byHand, ...siteFindings(move, site)];
}

const essential = ['name', 'user', 'password'] as const;

function entriesOf(facts: NonNullable<Site['facts']>) {
  return Object.entries(facts) as [FactName, NonNullable<(typeof facts)['name']>][];
}

function siteFindings(move: Move, { facts, others, family, configuration }: Site): Finding[] {
  const findings: Finding[] = [];
  if (facts?.network?.value === '1') {
    const to = move.newAddress.host === move.oldAddress.host;
    findings.push(
      finding({
        level: to || move.newLive ? 'note' : 'warn',
        code: 'network-of-sites',
        place: `${move.oldFiles}/${facts.network.file}:${facts.network.line}`,
        what: 'The site is a network of several sites; the configuration names the host and path of its first',
        remedy: to
          ? 'Nothing needs to be done: its host stays'
          : move.newLive
            ? 'Nothing needs to be done: delivery sets the hosts and paths in its tables'
            : 'After loading the dump, set domain and path in its tables of sites and networks',
      }),
    );
  }
  if (others.length > 0) {
    findings.push(
      finding({
        level: 'note',
        code: 'sites-several',
        place: `${move.oldFiles}/${others[0]}`,
        what: `The tree holds ${others.length + 1} ${family.name} sites; ${configuration} serves this address`,
        remedy:
          'The others are moved with the files; leave their folders out with take.files.without if they are not wanted',
      }),
    );
  }
  return findings;
}

/** The databases that the configuration and whatever looks like one name; copies of a configuration are reported. */
export async function databaseCandidates(
  move: Move,
  site: Site,
  likely: readonly string[],
): Promise<{ candidates: DatabaseCandidate[]; findings: Finding[] }> {
  const { family, facts, configuration } = site;
  const candidates: DatabaseCandidate[] = [];
  const findings: Finding[] = [];
  const textIn = (fact: { value: string | undefined } | undefined) =>
    fact?.value === undefined ? undefined : textOf(fact.value);
  const used = textIn(facts?.name);
  if (used !== undefined && configuration !== undefined)
    candidates.push({
      file: facts!.name!.file,
      name: used,
      prefix: textIn(facts?.prefix),
      host: textIn(facts?.host),
      used: true,
    });
  if (!move.oldFiles) return { candidates, findings };
  const tree = treeOf(move.oldFiles);
  const copies: string[] = [];
  for (const path of likely) {
    if (site.files.sources.get(path) !== undefined || site.others.includes(path)) continue;
    const source = await readSmall(tree, path);
    const read = source === undefined ? undefined : family.readConfiguration(oneFile(path, source))?.facts;
    const name = textIn(read?.name);
    if (name === undefined) continue;
    if (!path.endsWith('.php')) copies.push(path);
    candidates.push({
      file: path,
      name,
      prefix: textIn(read?.prefix),
      host: textIn(read?.host),
      used: false,
    });
  }
  const different = candidates.filter(one => !one.used && one.name !== used && !isSample(one.file));
  if (different.length > 0) {
    findings.push(
      finding({
        level: 'note',
        code: 'configuration-several',
        place: `${move.oldFiles}/${different[0]!.file}`,
        what: `Another configuration names another database (${different.map(({ name }) => name).join(', ')}); the site uses ${used ?? 'one that is not named'}`,
        remedy: 'Make sure that the dump is of the database that the site uses',
      }),
    );
  }
  const open = copies.filter(path => !isSample(path));
  if (open.length > 0) {
    findings.push(
      finding({
        level: 'warn',
        code: 'configuration-copy',
        place: `${move.oldFiles}/${open[0]}`,
        what: `A copy of the configuration is where visitors can read it as text, with its password: ${open.slice(0, 3).join(', ')}`,
        remedy: 'Remove it from the web root, and use another password at the new host',
      }),
    );
  }
  return { candidates: candidates.filter(one => one.used || !isSample(one.file)), findings };
}

/** Whether a configuration is one that the program brings along to be filled in. */
function isSample(path: string): boolean {
  return /sample|default\.settings|example|dist$/i.test(path);
}

/** The finding that a part of the configuration is outside of the folder that is moved. */
export function configurationAbove(
  move: Move,
  above: readonly Pick<CheckedEntry, 'path'>[] | readonly { path: string }[],
): Finding {
  const names = above.map(({ path }) => path).join(', ');
  return finding({
    level: 'note',
    code: 'configuration-above',
    place: `${move.oldFiles}/../${above[0]!.path}`,
    what: `A part of the configuration is one folder above the site (${names}) and is moved to the same place`,
    remedy: `Make sure that the folder above ${move.newFiles ?? 'the new site'} is the site's own`,
  });
}

/** Whether a site of a family cannot be without a configuration. */
export function needsConfiguration(family: Family): boolean {
  return family.marks.length > 0;
}

/** The finding that a family's configuration is not where it should be. */
export function configurationMissing(place: string, family: Family, folder = 'old.files'): Finding {
  return finding({
    level: 'stop',
    code: 'configuration-missing',
    place,
    what: `The files are those of a ${family.name} site, but its configuration is not there`,
    remedy: `Check that ${folder} names the folder of the site itself, with its configuration in it`,
  });
}

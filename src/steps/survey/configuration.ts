import { textOf } from '../../core/bytes.js';
import type { CheckedEntry } from '../../core/files/entries.js';
import { type Finding, finding } from '../../core/findings/findings.js';
import {
  type Fact,
  type FactName,
  type Facts,
  isSecret,
  oneFile,
  shownSource,
} from '../../core/site/configuration/source/facts.js';
import type { Family } from '../../core/site/families/family.js';
import { planConfiguration } from '../deliver/site/plan-configuration.js';
import type { Move } from '../move/open.js';
import { readSmall, type Site, type SiteTree, treeOf } from '../move/read-site.js';
import { frontFindings } from './front.js';

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
  const front = frontFindings(move, site);
  if (front.some(({ level }) => level === 'stop')) return front;
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
  const byHand = await planFindings(move, family, configuration);
  const known = new Set(byHand.map(({ place }) => place));
  return [
    ...front,
    ...filesFindings(move, site, configuration, facts),
    ...entriesOf(facts).flatMap(([fact, one]) =>
      factFindings(fact, one, `${at(one.file)}:${one.line}`, known),
    ),
    ...byHand,
    ...siteFindings(move, site),
  ];
}

/** What is above the site, missing, or not read. */
function filesFindings(
  move: Move,
  { family, files, unread }: Site,
  configuration: string,
  facts: Facts,
): Finding[] {
  const at = (path: string) => `${move.oldFiles}/${path}`;
  const findings: Finding[] = [];
  const above = [...files.sources].filter(([path, source]) => path.startsWith('../') && source !== undefined);
  if (above.length > 0)
    findings.push(
      configurationAbove(
        move,
        above.map(([path]) => ({ path: path.slice(3) })),
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
  for (const { file, line, source } of unread) {
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
  return findings;
}

/** What of the new configuration must be written by hand, as far as the old one shows it. */
async function planFindings(move: Move, family: Family, configuration: string): Promise<Finding[]> {
  if (!move.oldFiles) return [];
  const tree = treeOf(move.oldFiles);
  const finalPlace = move.oldFiles.text;
  const planned = await planConfiguration(move, family, { tree, main: configuration, finalPlace });
  return planned.findings.filter(({ code }) => code !== 'keys-fresh');
}

/** A fact that is not simply written where it is. @param known places that were reported already */
function factFindings(
  fact: FactName,
  { computed, fromEnvironment, file, source, value }: Fact,
  place: string,
  known: ReadonlySet<string>,
): Finding[] {
  if (computed && !known.has(place)) {
    return [
      finding({
        level: 'warn',
        code: 'configuration-computed',
        place,
        what: `The ${fact} is computed when the site runs (${shownSource(fact, source)})`,
        remedy: 'Make sure by hand that it is right at the new host',
      }),
    ];
  }
  if (!fromEnvironment || !(essential as readonly string[]).includes(fact)) return [];
  return [
    finding({
      level: 'note',
      code: 'configuration-environment',
      place,
      what: `The ${fact} comes from the environment; ${file} sets it to ${isSecret(fact) || value === undefined ? 'a secret' : textOf(value)}`,
      remedy: 'If the new host sets the variable itself, change it there; that value wins',
    }),
  ];
}

const essential = ['name', 'user', 'password'] as const;

function entriesOf(facts: Facts) {
  return Object.entries(facts) as [FactName, Fact][];
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
  const used = site.configuration === undefined ? undefined : candidateIn(site.facts, undefined, true);
  if (!move.oldFiles) return { candidates: used ? [used] : [], findings: [] };
  const others = await otherCandidates(treeOf(move.oldFiles), site, likely);
  const real = others.filter(({ file }) => !isSample(file));
  return {
    candidates: [...(used ? [used] : []), ...real],
    findings: candidateFindings(move.oldFiles.text, used?.name, real),
  };
}

/** The database that facts name; undefined where they name none. */
function candidateIn(
  facts: Facts | undefined,
  file: string | undefined,
  used: boolean,
): DatabaseCandidate | undefined {
  const textIn = (fact: Fact | undefined) => (fact?.value === undefined ? undefined : textOf(fact.value));
  const name = textIn(facts?.name);
  if (name === undefined || !facts?.name) return undefined;
  return {
    file: file ?? facts.name.file,
    name,
    prefix: textIn(facts.prefix),
    host: textIn(facts.host),
    used,
  };
}

/** What other files that look like a configuration name. */
async function otherCandidates(
  tree: SiteTree,
  { family, files, others }: Site,
  likely: readonly string[],
): Promise<DatabaseCandidate[]> {
  const candidates: DatabaseCandidate[] = [];
  for (const path of likely) {
    if (files.sources.get(path) !== undefined || others.includes(path)) continue;
    const source = await readSmall(tree, path);
    const facts = source === undefined ? undefined : family.readConfiguration(oneFile(path, source))?.facts;
    const candidate = candidateIn(facts, path, false);
    if (candidate) candidates.push(candidate);
  }
  return candidates;
}

function candidateFindings(
  place: string,
  used: string | undefined,
  others: readonly DatabaseCandidate[],
): Finding[] {
  const findings: Finding[] = [];
  const different = others.filter(({ name }) => name !== used);
  if (different[0]) {
    findings.push(
      finding({
        level: 'note',
        code: 'configuration-several',
        place: `${place}/${different[0].file}`,
        what: `Another configuration names another database (${different.map(({ name }) => name).join(', ')}); the site uses ${used ?? 'one that is not named'}`,
        remedy: 'Make sure that the dump is of the database that the site uses',
      }),
    );
  }
  // A server shows what is not PHP as it is.
  const open = others.map(({ file }) => file).filter(file => !file.endsWith('.php'));
  if (open.length > 0) {
    findings.push(
      finding({
        level: 'warn',
        code: 'configuration-copy',
        place: `${place}/${open[0]}`,
        what: `A copy of the configuration is where visitors can read it as text, with its password: ${open.slice(0, 3).join(', ')}`,
        remedy: 'Remove it from the web root, and use another password at the new host',
      }),
    );
  }
  return findings;
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

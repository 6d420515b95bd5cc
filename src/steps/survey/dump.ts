import { basename } from 'node:path';
import { parseAddress } from '../../core/address/address.js';
import type { SeenHost } from '../../core/address/seen.js';
import type { SeenFolders } from '../../core/address/server-paths.js';
import { textOf } from '../../core/bytes.js';
import { type Finding, finding } from '../../core/findings/findings.js';
import type { Workbench } from '../../core/kernels/workbench.js';
import type { Family } from '../../core/site/families/family.js';
import { DumpSurvey, type SurveyedTable } from '../../core/site/survey/dump-survey.js';
import { prefixesIn } from '../../core/site/survey/site-tables.js';
import { sizeText, sizeWithin } from '../../core/text/sizes.js';
import { readDump } from '../../ends/database/dump/reader.js';
import { identityOf } from '../move/identity.js';
import type { Move } from '../move/open.js';
import type { Site } from '../move/read-site.js';
import type { StepRun } from '../move/step.js';
import { othersFinding, siteInDatabase, siteTablesFindings, tablesTaken } from '../move/tables.js';

/** What was seen in a dump. */
export interface SurveyedDump {
  readonly file: string;
  /** The server that it was taken from, as it says. */
  readonly server: string | undefined;
  readonly prefixes: readonly string[];
  readonly tables: readonly SurveyedTable[];
  /** The names of all tables that are there, also of those that were not looked at. */
  readonly all: readonly string[];
  readonly hosts: readonly SeenHost[];
  readonly charsets: readonly string[];
  readonly collations: readonly string[];
  /** Bytes. */
  readonly longestStatement: number;
  /** How long the look at it took. */
  readonly seconds: number;
}

/** Looks through a dump. */
export async function surveyDump(
  run: Pick<StepRun, 'events' | 'signal'> & { readonly bench: Workbench },
  file: string,
  family: Family | undefined,
): Promise<{ dump: SurveyedDump; folders: SeenFolders }> {
  const reader = new DumpSurvey(run.bench, family?.landmark);
  const { size } = (await identityOf(file)) as { size: number };
  const began = performance.now();
  await readDump(run.bench, file, reader, {
    signal: run.signal,
    progress: done => run.events({ type: 'progress', what: basename(file), done, of: size, unit: 'bytes' }),
  });
  return { dump: seenIn(reader, file, family, began), folders: reader.folders };
}

/** What a reader has seen. @param began when, by `performance.now()` */
export function seenIn(
  reader: DumpSurvey,
  file: string,
  family: Family | undefined,
  began: number,
): SurveyedDump {
  return {
    file,
    server: reader.server,
    prefixes: prefixesIn(reader.tables.keys(), family?.coreTables ?? []),
    tables: [...reader.tables.values()],
    all: [...reader.tables.keys()],
    hosts: reader.hosts.all(),
    charsets: [...reader.charsets].sort(),
    collations: [...reader.collations].sort(),
    longestStatement: reader.longestStatement,
    seconds: (performance.now() - began) / 1000,
  };
}

/** Whether a dump is that of the site, and what is in it that the sheet does not name. */
export function dumpFindings(move: Move, site: Site | undefined, dump: SurveyedDump): Finding[] {
  const names = dump.all;
  const whose = siteInDatabase(site);
  const taken = tablesTaken(move, whose, names);
  const others = names.filter(name => taken(name) === 'nothing');
  const wrong = siteTablesFindings(move, whose, names, dump.file);
  const left = wrong.length > 0 ? [] : othersFinding(whose, { all: names, others, place: dump.file });
  return [...wrong, ...left, ...addressFindings(move, dump)];
}

function addressFindings(move: Move, { hosts, file }: SurveyedDump): Finding[] {
  const { oldAddress, sheet } = move;
  const named = new Set(
    [sheet.old.address, ...sheet.old.also, sheet.new.address].map(one => new URL(one).host.toLowerCase()),
  );
  const findings: Finding[] = [];
  const ofOld = [sheet.old.address, ...sheet.old.also].map(one => new URL(one).host.toLowerCase());
  if (hosts.length > 0 && !hosts.some(({ host }) => ofOld.includes(host))) {
    findings.push(
      finding({
        level: 'warn',
        code: 'address-not-in-data',
        place: file,
        what: `The old address ${sheet.old.address} is not in the dump; the most frequent host is ${hosts[0]!.host}`,
        remedy: 'Check old.address, and that this is the dump of this site',
      }),
    );
  }
  for (const seen of hosts) {
    if (named.has(seen.host)) continue;
    const twin = seen.host === `www.${oldAddress.host}` || `www.${seen.host}` === oldAddress.host;
    if (!twin && seen.ownPaths === 0) continue;
    const scheme = (seen.forms.https ?? 0) >= (seen.forms.http ?? 0) ? 'https' : 'http';
    const path = seen.base ?? (twin ? oldAddress.segments.map(one => `/${one}`).join('') : '');
    const times = `${seen.count} ${seen.count === 1 ? 'time' : 'times'}`;
    findings.push(
      finding({
        level: 'warn',
        code: twin ? 'address-twin' : 'address-not-named',
        place: seen.place,
        what: twin
          ? `The twin ${seen.host} of the old address is ${times} in the data (${seen.sample})`
          : `${seen.host} is ${times} in the data and looks like an earlier or temporary address of this site (${seen.sample})`,
        remedy: `If it was this site, add it to the sheet: old.also: [${scheme}://${seen.host}${path}]`,
      }),
    );
  }
  return findings;
}

/** Folders on the old server that data or files name and that no pair moves. */
export function folderFindings(move: Move, seen: readonly SeenFolders[]): Finding[] {
  const counts = new Map<string, { count: number; place: string }>();
  for (const { folder, count, place } of seen.flatMap(one => one.all())) {
    const before = counts.get(folder);
    counts.set(folder, { count: count + (before?.count ?? 0), place: before?.place ?? place });
  }
  const covered = (folder: string) =>
    [...move.sheet.rewrite.pairs.flatMap(({ from, to }) => [from, to]), move.newFiles?.path ?? '\0'].some(
      one => folder === one || folder.startsWith(`${one.replace(/\/$/, '')}/`),
    );
  // Below an address that has a path, what begins with this path is a link and not a folder.
  const addresses = [
    move.oldAddress,
    ...move.sheet.old.also.map(text => parseAddress(text)),
    move.newAddress,
  ];
  const paths = addresses.map(({ segments }) => segments.map(one => `/${textOf(one)}`).join(''));
  const isLink = (folder: string) =>
    paths.some(path => path !== '' && (folder === path || folder.startsWith(`${path}/`)));
  return [...counts]
    .filter(([folder]) => !covered(folder) && !isLink(folder))
    .slice(0, 5)
    .map(([folder, { count, place }]) =>
      finding({
        level: 'warn',
        code: 'server-path-not-named',
        place,
        what: `The folder ${folder} on a server is named ${count} ${count === 1 ? 'time' : 'times'} and will not be there at the new host`,
        remedy: `Add it to the sheet: rewrite.pairs: [{ from: ${folder}, to: ${move.newFiles?.path ?? '/the/new/folder'} }]`,
      }),
    );
}

/** Text of a site packs to a sixth or so. */
const packedShare = 6;

/**
 * A finished dump that is larger than what the new host accepts as an upload cannot be loaded through its panel.
 * @param limit bytes of an upload; undefined where it is not known
 */
export function panelFindings(
  { sheet, newDump }: Pick<Move, 'sheet' | 'newDump'>,
  dump: Pick<SurveyedDump, 'tables'> | undefined,
  limit: number | undefined,
): Finding[] {
  if (!newDump || sheet.new.database?.parts !== undefined || !dump || !limit) return [];
  const plain = dump.tables.reduce((sum, { bytes }) => sum + bytes, 0);
  const bytes = newDump.path.endsWith('.gz') ? Math.round(plain / packedShare) : plain;
  if (bytes <= limit) return [];
  return [
    finding({
      level: 'warn',
      code: 'panel-limit',
      place: newDump.text,
      what: `The finished dump will have about ${sizeText(bytes)}; the new host accepts uploads up to ${sizeText(limit)}`,
      remedy: `If it is loaded through the panel, split it: new.database.parts: ${sizeWithin(limit)}`,
    }),
  ];
}

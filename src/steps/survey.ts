import { basename, dirname } from 'node:path';
import { formatAddress } from '../core/address/address.js';
import type { SeenHost } from '../core/address/seen.js';
import { textOf } from '../core/bytes.js';
import type { FileEntry } from '../core/files/entries.js';
import { leftOut } from '../core/files/patterns.js';
import type { Finding } from '../core/findings.js';
import { type Fact, type FactName, type Family, shownSource } from '../core/site/family.js';
import { LyingAbout } from '../core/site/lying-about.js';
import { isServerFile, readServerFile } from '../core/site/server-files.js';
import { DumpSurvey, prefixesIn, type SurveyedTable } from '../core/sql/survey.js';
import { readDump } from '../ends/database/dump-reader.js';
import type { FilesEnd } from '../ends/files/files-end.js';
import { openFiles } from '../ends/files/place.js';
import { delivered } from './deliver.js';
import { identityOf, lookAtSite, type Move, type OldSite, readAll, siteMoveOf } from './move.js';
import { checkRoom } from './room.js';
import { doStep, type StepOutcome, type StepRun } from './run.js';

/** What was seen of a site's files. */
interface FilesSurvey {
  readonly place: string;
  readonly files: number;
  readonly folders: number;
  readonly links: number;
  readonly bytes: number;
  readonly leftOut: { readonly files: number; readonly bytes: number };
  readonly largest: readonly { readonly path: string; readonly bytes: number }[];
  readonly largestFolders: readonly { readonly path: string; readonly bytes: number }[];
}

/** What was seen of both ends. */
export interface SurveyResult {
  readonly old: {
    readonly address: string;
    readonly family: string;
    /** The files by which the family was recognised. */
    readonly recognisedBy: readonly string[];
    readonly configuration: string | undefined;
    readonly database: { name?: string; user?: string; host?: string; charset?: string; prefix?: string };
    readonly files: FilesSurvey | undefined;
    readonly dump:
      | {
          file: string;
          prefixes: readonly string[];
          tables: readonly SurveyedTable[];
          hosts: readonly SeenHost[];
        }
      | undefined;
  };
  readonly new: {
    readonly address: string;
    readonly files: string | undefined;
    /** What stands in the new folder already. */
    readonly standing: number;
    /** Whether a delivery of this move put it there. */
    readonly delivered: boolean;
    readonly prefix: string | undefined;
    readonly dump: string | undefined;
  };
}

/** Looks at both ends and says what would stop or trouble the move. Nothing is written at either. */
export async function survey(run: StepRun): Promise<StepOutcome<SurveyResult>> {
  const { move } = run;
  return doStep(run, 'survey', await surveyInputs(run), async () => {
    const findings: Finding[] = [];
    const site = move.oldFiles ? await lookAtSite(openFiles(move.oldFiles)) : undefined;
    if (site) findings.push(...configurationFindings(move, site));
    const files = move.oldFiles ? await surveyFiles(run, openFiles(move.oldFiles), findings) : undefined;
    const dump = move.oldDump ? await surveyDump(run, move.oldDump, site?.family) : undefined;
    if (dump && site) findings.push(...dumpFindings(move, site, dump));
    const next = await surveyNew(move, site?.family, delivered(await move.folder.readJournal()));
    findings.push(...next.findings, ...(await checkRoom(move, files?.bytes ?? 0)));
    const facts = site?.facts ?? {};
    const shown = (fact: Fact | undefined) => (fact?.value === undefined ? undefined : textOf(fact.value));
    const result: SurveyResult = {
      old: {
        address: formatAddress(move.oldAddress),
        family: site?.family.name ?? 'plain',
        recognisedBy: site?.by ?? [],
        configuration: site?.configuration,
        database: {
          name: shown(facts.name),
          user: shown(facts.user),
          host: shown(facts.host),
          charset: shown(facts.charset),
          prefix: shown(facts.prefix),
        },
        files,
        dump,
      },
      new: {
        address: formatAddress(move.newAddress),
        files: move.newFiles,
        standing: next.standing,
        delivered: next.delivered,
        prefix: move.sheet.new.database?.prefix,
        dump: move.newDump,
      },
    };
    const brief = {
      files: files?.files,
      tables: dump?.tables.length,
      findings: findings.map(({ level, code }) => `${level} ${code}`),
    };
    return { result, findings, brief };
  });
}

/** What a survey depends on. */
export async function surveyInputs({ move }: StepRun): Promise<unknown> {
  return { sheet: withoutSecrets(move), dump: await identityOf(move.oldDump) };
}

/** The sheet without what may hold a secret, for a digest. */
function withoutSecrets({ sheet }: Move): unknown {
  return { ...sheet, new: { ...sheet.new, database: { ...sheet.new.database, password: undefined } } };
}

function configurationFindings(move: Move, { family, configuration, facts }: OldSite): Finding[] {
  const place = `${move.oldFiles}/${configuration ?? family.configurations[0] ?? ''}`;
  if (configuration === undefined) {
    return needsConfiguration(family) ? [configurationMissing(place, family)] : [];
  }
  if (!facts) {
    return [
      {
        level: 'stop',
        code: 'configuration-unreadable',
        place,
        what: 'The configuration cannot be parsed, or is larger than 1 MiB',
        remedy: 'Open it and mend what is wrong; a working site’s configuration can be parsed',
      },
    ];
  }
  const told: Finding[] = configuration.startsWith('../') ? [configurationAbove(place)] : [];
  const missing = needsConfiguration(family) ? essential.filter(fact => !facts[fact]) : [];
  if (missing.length > 0) {
    told.push({
      level: 'warn',
      code: 'configuration-elsewhere',
      place,
      what: `It does not itself say the ${missing.join(', ')} of the database; another file that it includes may`,
      remedy: 'See to it by hand that the new host gets the right values',
    });
  }
  const computed = Object.entries(facts)
    .filter(([, fact]) => fact.value === undefined)
    .map(([name, fact]) => ({
      level: 'warn' as const,
      code: 'configuration-computed',
      place: `${place}:${fact.line}`,
      what: `The ${name} is worked out when the site runs (${shownSource(name as FactName, fact.source)})`,
      remedy: 'See to it by hand that it is right at the new host',
    }));
  return [...told, ...computed];
}

const essential = ['name', 'user', 'password'] as const;

/** The finding that the configuration lies outside of the folder that is moved. */
export function configurationAbove(place: string): Finding {
  return {
    level: 'warn',
    code: 'configuration-above',
    place,
    what: 'The configuration lies one folder above the site and is not taken along with it',
    remedy: 'Copy it into old.files first, or put it at the new host by hand with the new values',
  };
}

/** Whether a site of a family cannot be without a configuration. */
export function needsConfiguration(family: Family): boolean {
  return family.marks.length > 0;
}

/** The finding that a family's configuration is not where it should be. */
export function configurationMissing(place: string, family: Family): Finding {
  return {
    level: 'stop',
    code: 'configuration-missing',
    place,
    what: `The files are those of a ${family.name} site, but its configuration is not there`,
    remedy: 'Check that old.files names the folder of the site itself, with its configuration in it',
  };
}

async function surveyFiles(run: StepRun, files: FilesEnd, findings: Finding[]): Promise<FilesSurvey> {
  const { take } = run.move.sheet;
  const out = leftOut(take.files === false ? ['*'] : take.files.without);
  const counts = { files: 0, folders: 0, links: 0, bytes: 0 };
  const saved = { files: 0, bytes: 0 };
  const largest: FileEntry[] = [];
  const outFolders = new Set<string>();
  const folders = new Map<string, number>();
  const lying = new LyingAbout();
  const siteMove = siteMoveOf(run.move);
  for await (const entry of files.list(() => false, run.signal)) {
    const isOut = out(entry) || outFolders.has(dirname(entry.path));
    if (isOut && entry.type === 'folder') outFolders.add(entry.path);
    if (isOut) {
      if (entry.type === 'file') saved.files++;
      saved.bytes += entry.size;
      continue;
    }
    counts[`${entry.type}s`]++;
    counts.bytes += entry.size;
    lying.look(textOf(entry.path), entry.size);
    if (entry.type === 'file') {
      keepLargest(largest, entry);
      const folder = entry.path.split('/').slice(0, -1).slice(0, 2).join('/');
      folders.set(folder, (folders.get(folder) ?? 0) + entry.size);
      if (isServerFile(entry.path) && entry.size < largestServerFile) {
        const source = await readAll(files, entry.path);
        findings.push(
          ...readServerFile(entry.path, source, siteMove, `${files.place}/${textOf(entry.path)}`).findings,
        );
      }
    }
    if (counts.files % 200 === 0)
      run.events({ type: 'progress', what: 'files seen', done: counts.files, of: 0, unit: 'files' });
  }
  findings.push(...lying.findings(files.place));
  return {
    place: files.place,
    ...counts,
    leftOut: saved,
    largest: largest.map(({ path, size }) => ({ path: textOf(path), bytes: size })),
    largestFolders: [...folders]
      .map(([path, bytes]) => ({ path: path === '' ? '.' : textOf(path), bytes }))
      .sort((a, b) => b.bytes - a.bytes)
      .slice(0, 10),
  };
}

const largestServerFile = 1024 * 1024;

function keepLargest(largest: FileEntry[], entry: FileEntry): void {
  if (largest.length === 10 && entry.size <= largest[9]!.size) return;
  largest.push(entry);
  largest.sort((a, b) => b.size - a.size).splice(10);
}

async function surveyDump(
  run: StepRun,
  file: string,
  family: Family | undefined,
): Promise<NonNullable<SurveyResult['old']['dump']>> {
  const reader = new DumpSurvey(family?.landmark);
  const { size } = (await identityOf(file)) as { size: number };
  await readDump(file, reader, {
    signal: run.signal,
    progress: done => run.events({ type: 'progress', what: basename(file), done, of: size, unit: 'bytes' }),
  });
  const tables = [...reader.tables.values()];
  const prefixes = prefixesIn(reader.tables.keys(), family?.coreTables ?? []);
  return { file, prefixes, tables, hosts: reader.hosts.all() };
}

function dumpFindings(
  move: Move,
  { family, facts }: OldSite,
  dump: NonNullable<SurveyResult['old']['dump']>,
): Finding[] {
  const findings: Finding[] = [];
  const configured = facts?.prefix?.value;
  const shown = dump.prefixes.map(prefix => `"${prefix}"`).join(' and ');
  if (family.coreTables.length > 0 && dump.prefixes.length === 0) {
    findings.push({
      level: 'stop',
      code: 'dump-not-of-site',
      place: dump.file,
      what: `None of its ${dump.tables.length} tables are those of a ${family.name} site`,
      remedy: 'Dump the database that the configuration names, with all of its tables',
    });
  } else if (
    configured !== undefined &&
    family.coreTables.length > 0 &&
    !dump.prefixes.includes(configured)
  ) {
    findings.push({
      level: 'stop',
      code: 'prefix-differs',
      place: dump.file,
      what: `The dump's tables begin with ${shown}, the configuration says "${configured}"; the new site would show an installation page`,
      remedy: `Dump the database that belongs to this configuration, or correct its table prefix`,
    });
  } else if (dump.prefixes.length > 1) {
    findings.push({
      level: 'note',
      code: 'prefix-several',
      place: dump.file,
      what: `The dump holds several sites, with the prefixes ${shown}; the configuration uses "${configured ?? ''}"`,
      remedy: 'If the others are not wanted at the new host, dump only the tables of this site',
    });
  }
  return [...findings, ...addressFindings(move, dump.hosts)];
}

function addressFindings(move: Move, hosts: readonly SeenHost[]): Finding[] {
  const { oldAddress, newAddress, sheet } = move;
  const named = new Set(
    [sheet.old.address, ...sheet.old.also, sheet.new.address].map(one => new URL(one).host.toLowerCase()),
  );
  const findings: Finding[] = [];
  for (const seen of hosts) {
    if (named.has(seen.host)) continue;
    const twin = seen.host === `www.${oldAddress.host}` || `www.${seen.host}` === oldAddress.host;
    if (!twin && seen.ownPaths === 0) continue;
    const scheme = (seen.forms.https ?? 0) >= (seen.forms.http ?? 0) ? 'https' : 'http';
    const address = `${scheme}://${seen.host}${seen.base ?? (twin ? oldAddress.segments.map(one => `/${one}`).join('') : '')}`;
    const times = `${seen.count} ${seen.count === 1 ? 'time' : 'times'}`;
    findings.push({
      level: 'warn',
      code: twin ? 'address-twin' : 'address-not-named',
      place: seen.place,
      what: twin
        ? `The twin ${seen.host} of the old address stands ${times} in the data (${seen.sample})`
        : `${seen.host} stands ${times} in the data and looks like an earlier or temporary address of this site (${seen.sample})`,
      remedy: `If it was this site, add it to the sheet: old.also: [${address}]`,
    });
  }
  if (oldAddress.scheme === 'https' && newAddress.scheme === 'http') {
    findings.push({
      level: 'warn',
      code: 'scheme-weaker',
      place: 'new.address',
      what: 'The old site is served by https, the new one by http',
      remedy: 'Get a certificate for the new address and write https in the sheet',
    });
  }
  return findings;
}

async function surveyNew(
  move: Move,
  family: Family | undefined,
  ours: ReadonlySet<string>,
): Promise<{ standing: number; delivered: boolean; findings: Finding[] }> {
  const findings: Finding[] = [];
  const nothing = { standing: 0, delivered: false, findings };
  if (!move.newFiles) return nothing;
  const files = openFiles(move.newFiles);
  if (!(await files.isThere())) return nothing;
  const names: string[] = [];
  for await (const entry of files.list(one => one.path.includes('/'), new AbortController().signal))
    names.push(textOf(entry.path));
  if (names.length > 0 && !ours.has(move.newFiles)) {
    const configuration = family?.configurations.find(path => names.includes(path));
    const some = names.slice(0, 3).join(', ') + (names.length > 3 ? ', …' : '');
    findings.push({
      level: 'warn',
      code: configuration ? 'new-site-there' : 'new-folder-not-empty',
      place: move.newFiles,
      what: configuration
        ? `Another site's configuration (${configuration}) and ${names.length - 1} more things stand in the new folder`
        : `${names.length} ${names.length === 1 ? 'thing stands' : 'things stand'} in the new folder already: ${some}`,
      remedy: 'Check that this is the right folder; deliver keeps what stands there as keepsake until tidy',
    });
  }
  return { standing: names.length, delivered: ours.has(move.newFiles), findings };
}

import { formatAddress } from '../core/address/address.js';
import type { ShownRecord } from '../core/dns/records/record.js';
import { type Estimate, estimate, type Rate } from '../core/estimate.js';
import { type Finding, finding } from '../core/findings/findings.js';
import type { Family } from '../core/site/families/family.js';
import type { SeenLanguage } from '../core/site/survey/probe.js';
import { type Requirement, requirementsOf } from '../core/site/survey/requirements.js';
import type { SeenServer } from '../ends/database/database-end.js';
import { tryReading } from '../ends/files/folder-test.js';
import type { FilesPlace } from '../ends/files/place.js';
import { withLanding } from './move/landing.js';
import { ledgerOf } from './move/ledger.js';
import type { Move } from './move/open.js';
import { lookAtOldSite, type Site } from './move/read-site.js';
import { doStep, type StepOutcome, type StepRun } from './move/step.js';
import { sideBySide } from './overlap/side-by-side.js';
import {
  configurationFindings,
  type DatabaseCandidate,
  databaseCandidates,
  type ShownFact,
  shownFacts,
} from './survey/configuration.js';
import { checkCrateSpace, openFolderFindings } from './survey/crate-space.js';
import { type ListedDatabase, surveyOldDatabase } from './survey/database.js';
import { surveyNewDatabase } from './survey/database-server.js';
import { dumpFindings, folderFindings, panelFindings, type SurveyedDump, surveyDump } from './survey/dump.js';
import { type FilesSurvey, surveyFiles } from './survey/files.js';
import { hatchGain } from './survey/hatches.js';
import { surveyInputs } from './survey/inputs.js';
import type { LineRates } from './survey/line-rates.js';
import { type NewPlace, surveyNewPlace } from './survey/place.js';
import { clearProbes, probeLanguage } from './survey/probe.js';
import { notAsked, surveyDns, surveyNewWeb, surveyOldWeb, type WebSurvey } from './survey/web.js';

export type { WebSurvey };

/** What was seen of the old end. */
export interface OldEnd {
  readonly address: string;
  readonly family: string;
  readonly version: string | undefined;
  /** The files by which the family was recognised. */
  readonly recognisedBy: readonly string[];
  readonly configuration: string | undefined;
  readonly facts: readonly ShownFact[];
  readonly databases: readonly DatabaseCandidate[];
  /** The databases that the old server shows to the account. */
  readonly listed: readonly ListedDatabase[];
  readonly files: FilesSurvey | undefined;
  /** The folder in which a login at its host lands; undefined on this machine. */
  readonly landing: string | undefined;
  readonly dump: SurveyedDump | undefined;
  readonly web: WebSurvey;
  readonly dns: readonly ShownRecord[];
}

/** What was seen of the new end. */
export interface NewEnd {
  readonly address: string;
  readonly place: NewPlace | undefined;
  readonly landing: string | undefined;
  /** The database as the new configuration will say it, without its password. */
  readonly databaseNamed: string | undefined;
  readonly prefix: string | undefined;
  readonly dump: string | undefined;
  readonly web: WebSurvey;
  readonly dns: readonly ShownRecord[];
  readonly language: SeenLanguage | undefined;
  readonly database: Omit<SeenServer, 'collations' | 'charsets'> | undefined;
}

/** What was seen of both ends, or of the one that was asked for. */
export interface SurveyResult {
  readonly old: OldEnd | undefined;
  readonly new: NewEnd | undefined;
  readonly requirements: readonly Requirement[];
  readonly estimate: Estimate | undefined;
  readonly rates: LineRates;
}

export type End = 'old' | 'new';

interface Seen<Of> {
  readonly end: Of;
  readonly findings: readonly Finding[];
}

interface SeenOld extends Seen<OldEnd> {
  readonly site: Site | undefined;
  /** How fast its files are read. */
  readonly read: Rate | undefined;
}

interface SeenNew extends Seen<NewEnd> {
  readonly server: SeenServer | undefined;
}

/**
 * Looks at both ends and says what would stop or trouble the move. At the old end nothing is written; at the new one
 * only what is tried out there and removed at once.
 * @param only one end, where the other is not to be looked at
 */
export async function survey(run: StepRun, only?: End): Promise<StepOutcome<SurveyResult>> {
  const { move } = run;
  const inputs = only === undefined ? await surveyInputs(run) : { ...(await surveyInputs(run)), only };
  return doStep(run, 'survey', inputs, async findings => {
    await clearProbes(move);
    // Neither end waits for the other, but for what the new one must know of the old.
    let recognised: (family: Family | undefined) => void = () => {};
    const known = new Promise<Family | undefined>(resolve => {
      recognised = resolve;
    });
    const { old, new: host } = await sideBySide(run, {
      old:
        only === 'new'
          ? undefined
          : (run: StepRun) => surveyOld(run, recognised).finally(() => recognised(undefined)),
      new:
        only === 'old' ? undefined : (run: StepRun) => surveyNewHost(run, only === 'new' ? undefined : known),
    });
    findings.add(...(old?.findings ?? []));
    const next = host && (await surveyNew(run, old, host));
    findings.add(...(next?.findings ?? []));
    const needs = next && requirementsOf(knownOfEnds(move, old, next));
    findings.add(
      ...(needs?.findings ?? []),
      ...(only === undefined ? schemeFindings(move) : []),
      ...clearFindings(move),
      ...(old && next ? panelFindings(move, old.end.dump, next.end.language?.upload) : []),
      ...(only === 'new' ? [] : await checkCrateSpace(move, old?.end.files?.bytes ?? 0)),
      ...(await openFolderFindings(move)),
    );
    const result: SurveyResult = {
      old: old?.end,
      new: next?.end,
      requirements: needs?.list ?? [],
      estimate: old && next ? estimateOf(old, next) : undefined,
      rates: { old: old?.read, new: next?.end.place?.trial.write },
    };
    const brief = {
      only,
      files: old?.end.files?.files,
      tables: old?.end.dump?.tables.length,
      findings: findings.all.map(({ level, code }) => `${level} ${code}`),
    };
    return { result, brief };
  });
}

/** @param recognised gets the site’s family as soon as it is known */
async function surveyOld(run: StepRun, recognised: (family: Family | undefined) => void): Promise<SeenOld> {
  const { move } = run;
  const findings: Finding[] = [];
  const files = move.oldFiles?.open();
  const site = files && (await withLanding(move.oldFiles, () => lookAtOldSite(move, files)));
  recognised(site?.family);
  const looks = await sideBySide(run, {
    files: async run => {
      if (!files || !site) return undefined;
      const seen = await withLanding(move.oldFiles, () => surveyFiles(run, files, site.family));
      const [databases, read] = await Promise.all([
        databaseCandidates(move, site, seen.likely),
        tryReading(files, seen.samples, run.signal),
      ]);
      const gain = move.oldFiles ? await hatchGain(run, move.oldFiles, seen, read) : [];
      return { seen, databases, read, gain };
    },
    database: async run => {
      const server = move.oldLive ? await surveyOldDatabase(run, site) : undefined;
      const looked =
        move.oldDump === undefined
          ? server
          : await surveyDump({ ...run, bench: move.bench }, move.oldDump, site?.family);
      return { server, looked };
    },
    pages: async run => {
      const configuration = site ? await configurationFindings(move, site) : [];
      const web = site ? await surveyOldWeb(run, site.family) : undefined;
      return { configuration, web, dns: await surveyDns(run, 'old') };
    },
  });
  const { seen, databases, read, gain = [] } = looks.files ?? {};
  const { server, looked } = looks.database;
  const { configuration, web, dns } = looks.pages;
  findings.push(...configuration, ...(server?.findings ?? []), ...gain);
  findings.push(...(seen?.findings ?? []), ...(databases?.findings ?? []));
  if (looked?.dump) findings.push(...dumpFindings(move, site, looked.dump));
  findings.push(
    ...folderFindings(
      move,
      [looked?.folders, seen?.folders].filter(one => one !== undefined),
    ),
  );
  findings.push(...(web?.findings ?? []), ...dns.findings);
  const end: OldEnd = {
    address: formatAddress(move.oldAddress),
    family: site?.family.name ?? 'plain',
    version: site?.version.version,
    recognisedBy: site?.by ?? [],
    configuration: site?.configuration,
    facts: site ? shownFacts(site) : [],
    databases: databases?.candidates ?? [],
    listed: server?.listed ?? [],
    files: seen?.survey,
    landing: await landingOf(move.oldFiles),
    dump: looked?.dump,
    web: web?.web ?? notAsked,
    dns: dns.records,
  };
  return { end, findings, site, read };
}

/** What is seen of the new host without knowing the old site. */
async function surveyNewHost(run: StepRun, family: Promise<Family | undefined> | undefined) {
  const ledger = await ledgerOf(run.move);
  const [{ place, findings }, web, probed] = await Promise.all([
    surveyNewPlace(run, family, ledger),
    surveyNewWeb(run),
    probeLanguage(run),
  ]);
  return { ledger, place, web, probed, findings: [...findings, ...web.findings, ...probed.findings] };
}

async function surveyNew(
  run: StepRun,
  old: SeenOld | undefined,
  { ledger, place, web, probed, findings }: Awaited<ReturnType<typeof surveyNewHost>>,
): Promise<SeenNew> {
  const { move } = run;
  const site = old?.site;
  const prefix = site?.facts?.prefix?.value;
  const tables = old?.end.dump?.tables ?? [];
  const database = await surveyNewDatabase(move, { family: site?.family, prefix, tables }, ledger);
  const same = move.oldAddress.host === move.newAddress.host;
  const dns = same ? { records: [], findings: [] } : await surveyDns(run, 'new');
  const { server } = database;
  const end: NewEnd = {
    address: formatAddress(move.newAddress),
    place,
    landing: await landingOf(move.newFiles),
    databaseNamed: namedDatabase(move.sheet.new.database?.server),
    prefix: move.sheet.new.database?.prefix,
    dump: move.newDump?.text,
    web: web.web,
    dns: dns.records,
    language: probed.language,
    database: server && withoutLists(server),
  };
  const all = [findings, database.findings, dns.findings].flat();
  return { end, findings: all, server };
}

/** A host that does not say is not asked again. */
async function landingOf(place: FilesPlace | undefined): Promise<string | undefined> {
  return place?.landing().catch(() => undefined);
}

function namedDatabase(server: string | undefined): string | undefined {
  if (server === undefined) return undefined;
  const { pathname, username, host } = new URL(server);
  return `${decodeURIComponent(pathname.slice(1))} as ${decodeURIComponent(username)} at ${host}`;
}

/** What a server says, without the long lists that only the requirements need. */
function withoutLists({ collations: _, charsets: __, ...others }: SeenServer): NewEnd['database'] {
  return others;
}

function knownOfEnds(move: Move, old: SeenOld | undefined, { end, server }: SeenNew) {
  const { files, dump } = old?.end ?? {};
  const { place, web } = end;
  return {
    family: old?.end.family ?? 'plain',
    version: old?.site?.version ?? {},
    extensions: old?.site?.family.extensions ?? [],
    take: { bytes: files?.bytes ?? 0, files: files?.files ?? 0, links: files?.links ?? 0 },
    place: place && { ...place, ...place.trial },
    web: web.home === undefined ? undefined : { asked: web.asked!, server: web.front?.server },
    language: end.language,
    database: server,
    fits: move.newLive,
    dump: move.sheet.take.database === false ? undefined : dump,
  };
}

/** Places whose password goes over the line as it is. */
function clearFindings({ oldFiles, newFiles }: Move): Finding[] {
  return [oldFiles, newFiles]
    .filter(place => place?.inClear)
    .map(place =>
      finding({
        level: 'warn',
        code: 'password-in-clear',
        place: String(place),
        what: 'Plain FTP sends the password and every file unencrypted',
        remedy: 'Write ftps:// or sftp:// if the host has it; change the password after the move',
      }),
    );
}

/** What follows from the two addresses alone. */
function schemeFindings({ oldAddress, newAddress }: Move): Finding[] {
  if (oldAddress.scheme !== 'https' || newAddress.scheme !== 'http') return [];
  return [
    finding({
      level: 'warn',
      code: 'scheme-weaker',
      place: 'new.address',
      what: 'The old site is served by https, the new one by http',
      remedy: 'Get a certificate for the new address and write https in the sheet',
    }),
  ];
}

function estimateOf(old: SeenOld, next: SeenNew): Estimate {
  const { files, dump } = old.end;
  const bytes = dump?.tables.reduce((sum, table) => sum + table.bytes, 0) ?? 0;
  return estimate({
    files: files?.files ?? 0,
    bytes: files?.bytes ?? 0,
    read: old.read,
    write: next.end.place?.trial.write,
    dump: dump && { bytes, seconds: dump.seconds },
  });
}

import { formatAddress } from '../core/address/address.js';
import { type Estimate, estimate } from '../core/estimate.js';
import { type Finding, finding } from '../core/findings/findings.js';
import type { Family } from '../core/site/families/family.js';
import type { SeenLanguage } from '../core/site/survey/probe.js';
import { type Requirement, requirementsOf } from '../core/site/survey/requirements.js';
import type { SeenServer } from '../ends/database/database-end.js';
import type { DnsRecord } from '../ends/dns.js';
import { tryReading } from '../ends/files/folder-test.js';
import type { FilesPlace } from '../ends/files/place.js';
import { withLanding } from './move/landing.js';
import { ledgerOf } from './move/ledger.js';
import type { Move } from './move/open.js';
import { lookAtSite, type Site, treeOf } from './move/read-site.js';
import { doStep, type StepOutcome, type StepRun } from './move/step.js';
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
import { type FilesSurvey, type SeenFiles, surveyFiles } from './survey/files.js';
import { surveyInputs } from './survey/inputs.js';
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
  readonly dns: readonly DnsRecord[];
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
  readonly dns: readonly DnsRecord[];
  readonly language: SeenLanguage | undefined;
  readonly database: Omit<SeenServer, 'collations' | 'charsets'> | undefined;
}

/** What was seen of both ends, or of the one that was asked for. */
export interface SurveyResult {
  readonly old: OldEnd | undefined;
  readonly new: NewEnd | undefined;
  readonly requirements: readonly Requirement[];
  readonly estimate: Estimate | undefined;
}

export type End = 'old' | 'new';

interface Seen<Of> {
  readonly end: Of;
  readonly findings: readonly Finding[];
}

interface SeenOld extends Seen<OldEnd> {
  readonly site: Site | undefined;
  readonly files: SeenFiles | undefined;
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
    const looking = only === 'new' ? undefined : surveyOld(run);
    const family = looking?.then(
      ({ site }) => site?.family,
      () => undefined,
    );
    const [old, host] = await bothOf(looking, only === 'old' ? undefined : surveyNewHost(run, family));
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
      estimate: old && next ? await estimateOf(run, old, next) : undefined,
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

async function surveyOld(run: StepRun): Promise<SeenOld> {
  const { move } = run;
  const findings: Finding[] = [];
  const files = move.oldFiles?.open();
  const site =
    move.oldFiles &&
    (await withLanding(move.oldFiles, () => lookAtSite(treeOf(move.oldFiles!, files), move.oldAddress)));
  if (site) findings.push(...(await configurationFindings(move, site)));
  const seen =
    files && site ? await withLanding(move.oldFiles, () => surveyFiles(run, files, site.family)) : undefined;
  const databases = site && seen ? await databaseCandidates(move, site, seen.likely) : undefined;
  const server = move.oldLive ? await surveyOldDatabase(run, site) : undefined;
  const looked =
    move.oldDump === undefined
      ? server
      : await surveyDump({ ...run, bench: move.bench }, move.oldDump, site?.family);
  findings.push(...(server?.findings ?? []));
  findings.push(...(seen?.findings ?? []), ...(databases?.findings ?? []));
  if (looked?.dump) findings.push(...dumpFindings(move, site, looked.dump));
  findings.push(
    ...folderFindings(
      move,
      [looked?.folders, seen?.folders].filter(one => one !== undefined),
    ),
  );
  const web = site ? await surveyOldWeb(run, site.family) : undefined;
  const dns = await surveyDns(run, 'old');
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
  return { end, findings, site, files: seen };
}

/** Waits for both, also where one fails, so that nothing goes on unnoticed. @throws what the first threw, or the second */
async function bothOf<A, B>(first: Promise<A> | undefined, second: Promise<B> | undefined) {
  await Promise.allSettled([first, second]);
  return Promise.all([first, second]);
}

/** What is seen of the new host without knowing the old site. */
async function surveyNewHost(run: StepRun, family: Promise<Family | undefined> | undefined) {
  const ledger = await ledgerOf(run.move);
  const { place, findings } = await surveyNewPlace(run, family, ledger);
  const web = await surveyNewWeb(run);
  const probed = await probeLanguage(run);
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

async function estimateOf(run: StepRun, old: SeenOld, next: SeenNew): Promise<Estimate> {
  const { oldFiles } = run.move;
  const { files, dump } = old.end;
  const read =
    oldFiles && old.files ? await tryReading(oldFiles.open(), old.files.samples, run.signal) : undefined;
  const bytes = dump?.tables.reduce((sum, table) => sum + table.bytes, 0) ?? 0;
  return estimate({
    files: files?.files ?? 0,
    bytes: files?.bytes ?? 0,
    read,
    write: next.end.place?.trial.write,
    dump: dump && { bytes, seconds: dump.seconds },
  });
}

import { X509Certificate } from 'node:crypto';
import { readFile } from 'node:fs/promises';
import { resolve } from 'node:path';
import { bytesOfText } from '../../core/bytes.js';
import { dataFromText } from '../../core/dns/records/data.js';
import { below, nameOfHost } from '../../core/dns/records/name.js';
import { reversed, type SetChange } from '../../core/dns/zone/set-change.js';
import { EndError, UsageError } from '../../core/errors.js';
import type { FilesPlace } from '../../ends/files/place.js';
import { type AcmeProof, orderCertificate } from '../../ends/trust/acme.js';
import type { CutoverResult } from '../cutover.js';
import type { StepRun } from '../move/step.js';
import { changeForNow } from './change-zones.js';
import { plannedCutover } from './planned.js';
import { methodOf, openZones, zoneWith } from './zones.js';

/** A certificate for the new host, in the move folder. */
export interface ReadyCertificate {
  readonly hosts: readonly string[];
  /** The last day on which it is valid, ISO 8601. */
  readonly until: string;
  /** The files for the host's panel: readable by their owner alone. */
  readonly key: string;
  readonly chain: string;
}

const folder = 'certificate';

/**
 * Gets a certificate for the names that lead to the new host after the switch, before it: proved by a record in the zone, or
 * by a file at the host to which they lead now.
 * @throws UsageError where the sheet does not say how, EndError where the authority refuses
 */
export async function getCertificate(run: StepRun): Promise<ReadyCertificate> {
  const { move } = run;
  const doing = 'Getting the certificate';
  const plan = await plannedCutover(run, doing);
  const wish = move.sheet.dns?.certificate;
  if (!wish?.directory) {
    throw new UsageError({
      doing,
      cause: 'the sheet does not name a certificate authority',
      remedy: 'Add dns.certificate.directory, the URL at which the authority speaks ACME',
    });
  }
  const hosts = plan.names
    .filter(({ fate }) => fate !== 'stays' && fate !== 'is not in a zone that was read')
    .map(({ host }) => host);
  const prover = wish.method === 'dns' ? dnsProver(run) : fileProver(run, plan);
  let ordered: Awaited<ReturnType<typeof orderCertificate>>;
  try {
    ordered = await orderCertificate({
      directory: wish.directory,
      mail: wish.mail,
      trust: wish.trust && (await readFile(resolve(move.folder.folder, wish.trust), 'utf8')),
      hosts,
      kind: wish.method === 'dns' ? 'dns-01' : 'http-01',
      ...prover,
    });
  } catch (error) {
    run.signal.throwIfAborted();
    if (error instanceof UsageError) throw error;
    throw new EndError({
      doing: `${doing} for ${hosts.join(', ')} at ${new URL(wish.directory).host}`,
      cause: (error as Error).message,
      remedy: 'Check dns.certificate, and that the names lead where the proof is; then run the command again',
    });
  }
  const key = await move.folder.write(`${folder}/${hosts[0]}.key.pem`, ordered.key);
  const chain = await move.folder.write(`${folder}/${hosts[0]}.pem`, ordered.chain);
  const until = new Date(new X509Certificate(ordered.chain).validTo).toISOString();
  return { hosts, until, key, chain };
}

interface Prover {
  readonly put: (proof: AcmeProof) => Promise<void>;
  readonly remove: (proof: AcmeProof) => Promise<void>;
}

/** Proves names by TXT records (RFC 8555, section 8.4), beside those that are there. */
function dnsProver(run: StepRun): Prover {
  const doing = 'Proving the names by records';
  if (methodOf(run.move) !== 'update') {
    throw new UsageError({
      doing,
      cause: 'the zone takes no dynamic updates from here (dns.server)',
      remedy: 'Use dns.certificate.method: http, or let the host get the certificate',
    });
  }
  const changes = new Map<string, SetChange>();
  return {
    put: async ({ host, text }) => {
      const name = below('_acme-challenge', nameOfHost(host));
      const zone = zoneWith(await openZones(run), name);
      const before = zone.view.zone.set(name, 'TXT');
      const record = { name, type: 'TXT', ttl: 60, data: dataFromText('TXT', `"${text}"`) };
      const after = [...before.map(one => ({ ...one, ttl: 60 })), record];
      const change = { name, type: 'TXT', before, after };
      await changeForNow(run, zone, [change]);
      changes.set(`${host} ${text}`, change);
    },
    remove: async ({ host, text }) => {
      const change = changes.get(`${host} ${text}`);
      if (!change) return;
      await changeForNow(run, zoneWith(await openZones(run), change.name), reversed([change]));
    },
  };
}

/** Proves names by files (RFC 8555, section 8.3) at the host to which each leads now. */
function fileProver(run: StepRun, plan: CutoverResult): Prover {
  const { move } = run;
  const placeFor = (host: string): FilesPlace => {
    const planned = plan.names.find(one => one.host === host);
    const isNew = planned?.fate === 'leads there already' || planned?.fate === 'is created';
    const [place, address] = isNew ? [move.newFiles, move.newAddress] : [move.oldPlace, move.oldAddress];
    if (place && address.segments.length === 0) return place;
    throw new UsageError({
      doing: `Proving ${host} by a file`,
      cause: place
        ? `the ${isNew ? 'new' : 'old'} site is in a sub-folder, and the file belongs to the root of its host`
        : `the sheet names no ${isNew ? 'new' : 'old'}.files`,
      remedy: 'Use dns.certificate.method: dns, or let the host get the certificate',
    });
  };
  const pathOf = (token: string) => bytesOfText(`.well-known/acme-challenge/${token}`);
  return {
    put: async ({ host, token, text }) => {
      if (!/^[\w-]+$/.test(token)) throw new Error('the authority sent a token that is none');
      const end = placeFor(host).open();
      await end.makeFolder(bytesOfText('.well-known'), 0o755);
      await end.makeFolder(bytesOfText('.well-known/acme-challenge'), 0o755);
      await end.write(pathOf(token), Buffer.from(text));
    },
    remove: async ({ host, token }) => placeFor(host).open().remove(pathOf(token)),
  };
}

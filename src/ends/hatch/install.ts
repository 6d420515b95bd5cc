import { randomBytes } from 'node:crypto';
import { readFile } from 'node:fs/promises';
import { asBytes } from '../../core/bytes.js';
import { EndError, UsageError } from '../../core/errors.js';
import type { HatchKeys } from '../../core/hatch/keys.js';
import { hatchProgram, probeProgram } from '../../core/hatch/program.js';
import { newHatchKeys } from './new-keys.js';
import { type HatchPlace, newHatchName, removeHatch } from './place.js';

/** So long a hatch lives that nobody takes away, in seconds. */
const lifetime = 24 * 3600;
/** Bytes of the page for unknown addresses that a hatch shows as well. */
const largestUnknown = 64 * 1024;

/** What the probe says. */
interface Probed {
  readonly token: string;
  readonly php: number;
  readonly clock: number;
  readonly sodium: boolean;
  readonly openssl: boolean;
  readonly above: boolean;
  readonly keeps: boolean;
}

/**
 * Puts a hatch into a web root: first a probe that shows that PHP runs there, and that the address leads to this folder.
 * @returns its name and keys, and its clock less this machine's in seconds
 */
export async function installHatch(
  place: HatchPlace,
  signal: AbortSignal,
): Promise<{ name: string; keys: HatchKeys; skew: number }> {
  const name = newHatchName();
  try {
    return await install(place, name, signal);
  } catch (error) {
    await removeHatch(place, name).catch(() => {});
    throw error;
  }
}

async function install(
  place: HatchPlace,
  name: string,
  signal: AbortSignal,
): Promise<{ name: string; keys: HatchKeys; skew: number }> {
  const { folder, above, site } = place;
  const secretName = asBytes(`.${name}.secret`);
  const secret = randomBytes(32);
  // Noted first, so that a run that is killed leaves word of what to remove.
  await place.note(name, 'put');
  // Where the account reaches the folder above the web root, what is secret lies there.
  const hiding = above.write(secretName, Buffer.from(secret.toString('base64'))).then(
    () => true,
    () => false,
  );
  // Whether it is the right site is not known yet; a request for what does not exist does no harm.
  const looking = site.get(`/${newHatchName()}.php`, signal);
  looking.catch(() => {});
  const { probed, skew, removed } = await probe(place, { secretFile: `../.${name}.secret`, hiding }, signal);
  // What goes wrong there is reported below, once all else is done.
  removed.catch(() => {});
  if (!site.keepsSecrets && !place.isPlain) throw inClear(place);
  if (!probed.sodium && !probed.openssl) throw cannot(place, 'its PHP has neither sodium nor openssl');
  if (place.isPlain && !probed.openssl)
    throw cannot(place, 'its PHP has no openssl, so bodies cannot be encrypted');
  if (probed.php < 70200) throw cannot(place, 'its PHP is older than 7.2');
  if (!probed.keeps) throw cannot(place, 'its PHP may write nowhere, also not into a temporary folder');
  const keys = newHatchKeys(probed.sodium ? 'ed25519' : 'ecdsa-p256', secret);
  const hides = (await hiding) && probed.above;
  if (!hides && (await hiding)) await above.remove(secretName);
  const unknown = await looking;
  const program = hatchProgram(await readFile(sourceFile(), 'utf8'), {
    name,
    keys,
    ends: Date.now() / 1000 + skew + lifetime,
    seals: place.isPlain,
    secretFile: hides ? `../.${name}.secret` : '',
    unknown: {
      status: unknown.status === 200 ? 404 : unknown.status,
      type: String(unknown.headers['content-type'] ?? 'text/html'),
      page: unknown.content.subarray(0, largestUnknown),
    },
  });
  await folder.write(asBytes(`${name}.php`), Buffer.from(program));
  await removed;
  return { name, keys, skew };
}

/**
 * Shows by a small program whether PHP runs in the web root.
 * @param hiding ends when the secret file is written
 * @returns what it says, and what ends when it is removed again
 */
async function probe(
  place: HatchPlace,
  { secretFile, hiding }: { readonly secretFile: string; readonly hiding: Promise<boolean> },
  signal: AbortSignal,
): Promise<{ probed: Probed; skew: number; removed: Promise<void> }> {
  const { folder, site } = place;
  const [name, token] = [newHatchName(), randomBytes(16).toString('hex')];
  const path = asBytes(`${name}.php`);
  const remove = async () => {
    await folder.remove(path);
    await place.note(name, 'gone');
  };
  await place.note(name, 'put');
  try {
    await Promise.all([folder.write(path, Buffer.from(probeProgram(token, secretFile))), hiding]);
    const began = Date.now();
    // Where the site wants HTTPS, this leads there, and so goes everything after it.
    const answer = await site.get(`/${name}.php`, signal).catch(error => {
      signal.throwIfAborted();
      throw new EndError(
        {
          doing: `Opening a hatch at the ${place.end} site`,
          kind: 'unreachable',
          cause: `${site.reached} does not answer: ${(error as Error).message}`,
          remedy: `Check ${place.end}.reach: it says where the web server is while the DNS leads elsewhere`,
        },
        { cause: error },
      );
    });
    const text = answer.content.toString();
    if (text.includes('<?php')) throw cannot(place, 'its web server shows programs instead of running them');
    const probed = readProbe(text);
    if (probed?.token !== token) throw elsewhere(place, answer.status);
    return { probed, skew: probed.clock - (began + Date.now()) / 2000, removed: remove() };
  } catch (error) {
    await remove();
    throw error;
  }
}

function readProbe(text: string): Probed | undefined {
  try {
    return JSON.parse(text) as Probed;
  } catch {
    return undefined;
  }
}

/** hatch.php, beside the program that was built and beside its sources. */
function sourceFile(): URL {
  const above = import.meta.url.endsWith('.ts') ? '../../..' : '../..';
  return new URL(`${above}/hatch/hatch.php`, import.meta.url);
}

function cannot({ end }: HatchPlace, cause: string): EndError {
  return new EndError({
    doing: `Opening a hatch at the ${end} site`,
    kind: 'refused',
    cause,
    remedy: `Leave ${end}.hatch out; files go over FTP then, and the database as a dump`,
  });
}

function elsewhere({ end, site, folder }: HatchPlace, status: number): EndError {
  return new EndError({
    doing: `Opening a hatch at the ${end} site`,
    kind: 'not found',
    cause: `a file that was put into ${folder.place} is not at ${site.reached} (${status}): another folder is its web root, another host answers, or something refuses new programs`,
    remedy: `Check ${end}.files, ${end}.address and ${end}.reach`,
  });
}

function inClear({ end, site }: HatchPlace): UsageError {
  return new UsageError({
    doing: `Opening a hatch at the ${end} site`,
    cause: `${site.reached} is not reached over HTTPS, so others on the way could change what is sent`,
    remedy: `Use https://, or allow it with ${end}.hatch: { plain: true }: bodies are encrypted then (see docs/hatch.md for what that does not help against)`,
  });
}

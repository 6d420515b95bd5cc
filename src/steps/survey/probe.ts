import { randomBytes } from 'node:crypto';
import { asBytes } from '../../core/bytes.js';
import { type Finding, finding } from '../../core/findings/findings.js';
import { probeSource, readProbe, type SeenLanguage } from '../../core/site/survey/probe.js';
import type { FilesPlace } from '../../ends/files/place.js';
import { ledgerOf } from '../move/ledger.js';
import type { Move } from '../move/open.js';
import { askableSiteOf } from '../move/sites.js';
import { noteDeed, type StepRun } from '../move/step.js';
import { skewFindings } from './web.js';

interface Probed {
  readonly language: SeenLanguage | undefined;
  readonly findings: readonly Finding[];
}

/**
 * Asks the language at the new host about itself with a short-lived file, which is removed whatever happens. Only
 * where the sheet allows it.
 */
export async function probeLanguage(run: StepRun): Promise<Probed> {
  const { sheet, newFiles } = run.move;
  const site = askableSiteOf(run.move, 'new');
  if (!sheet.new.probe || !site || !newFiles) return { language: undefined, findings: [] };
  if (!(await newFiles.open().isThere())) return { language: undefined, findings: [] };
  const token = randomBytes(24).toString('hex');
  const place = sheet.new.reach ?? sheet.new.address;
  let body: string;
  try {
    body = await answerOf(run, newFiles, token, async name => {
      const page = await site.get(`/${name}`, run.signal, { headers: { 'x-probe-token': token } });
      return page.html;
    });
  } catch (error) {
    run.signal.throwIfAborted();
    return { language: undefined, findings: [notProbed(place, (error as Error).message)] };
  }
  return readAnswer(body, place);
}

/** Puts the probe, asks it, and removes it. */
async function answerOf(
  run: StepRun,
  folder: FilesPlace,
  token: string,
  ask: (name: string) => Promise<string>,
): Promise<string> {
  const name = asBytes(`able-porter-probe-${randomBytes(16).toString('hex')}.php`);
  const place = folder.below(name).text;
  const files = folder.open();
  // Noted first, so that a run that is killed here leaves word of what to remove.
  await noteDeed(run, 'survey', { kind: 'probe put', place });
  try {
    await files.write(name, Buffer.from(probeSource(token)));
    return await ask(name);
  } finally {
    await files.remove(name);
    await noteDeed(run, 'survey', { kind: 'probe removed', place });
  }
}

function readAnswer(body: string, place: string): Probed {
  const language = readProbe(body);
  if (language === undefined)
    return { language, findings: [notProbed(place, 'the answer was not that of the probe')] };
  if (language !== 'source')
    return { language, findings: skewFindings(place, Math.round(language.now - Date.now() / 1000)) };
  const notRun = finding({
    level: 'stop',
    code: 'language-not-run',
    place,
    what: 'The new web server shows PHP files as text instead of running them',
    remedy: 'Switch PHP on for this host before any file with a password goes there',
  });
  return { language: undefined, findings: [notRun] };
}

function notProbed(place: string, why: string): Finding {
  return finding({
    level: 'warn',
    code: 'language-not-asked',
    place,
    what: `The probe did not answer: ${why}`,
    remedy: 'Check that new.files is the folder that new.reach serves',
  });
}

/** Removes probes that a killed run left. */
export async function clearProbes(move: Move): Promise<void> {
  const { probes } = await ledgerOf(move);
  for (const place of probes) {
    const path = move.newFiles?.pathTo(place);
    if (!move.newFiles || !path) continue;
    const files = move.newFiles.open();
    if (await files.isThere()) await files.remove(asBytes(path));
  }
}

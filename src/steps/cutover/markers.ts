import { randomBytes } from 'node:crypto';
import { bytesOfText } from '../../core/bytes.js';
import { type Finding, finding } from '../../core/findings/findings.js';
import type { FilesPlace } from '../../ends/files/place.js';
import type { WebSite } from '../../ends/http/web-site.js';
import { ledgerOf } from '../move/ledger.js';
import type { Move } from '../move/open.js';
import { askableSiteOf } from '../move/sites.js';
import { noteDeed, type StepRun } from '../move/step.js';

/** Which end answers. */
export type SeenEnd = 'old' | 'new';

/** A marker names its end after this. */
const content = 'able-porter marker: ';

function placesOf(move: Move): { end: SeenEnd; place: FilesPlace }[] {
  const places = [
    { end: 'old' as const, place: move.oldPlace },
    { end: 'new' as const, place: move.newFiles },
  ];
  return places.flatMap(({ end, place }) => (place ? [{ end, place }] : []));
}

/** The path of the markers, below both addresses; undefined where none were put. */
export async function markerPath(move: Move): Promise<string | undefined> {
  return [...(await ledgerOf(move)).markers.values()][0];
}

/** Puts a tiny file with the same random name at each end, by which one sees which host answers. Safe to repeat. */
export async function putMarkers(run: StepRun): Promise<Finding[]> {
  const path = (await markerPath(run.move)) ?? `.able-porter.marker-${randomBytes(8).toString('hex')}.txt`;
  const findings: Finding[] = [];
  for (const { end, place } of placesOf(run.move)) {
    const files = place.open();
    if (!(await files.isThere())) continue;
    await noteDeed(run, 'cutover', { kind: 'marker put', place: String(place), path });
    await files.write(bytesOfText(path), Buffer.from(`${content}${end}\n`));
    const site = askableSiteOf(run.move, end);
    const seen = site && (await markerAt(site, path, run.signal).catch(() => undefined));
    await site?.close();
    run.signal.throwIfAborted();
    if (!site || seen === end) continue;
    findings.push(
      finding({
        level: 'warn',
        code: 'marker-not-served',
        place: `${place}/${path}`,
        what: `The ${end} web server does not show the marker that was put there`,
        remedy: 'Nothing needs to be done: the watch goes by addresses alone then',
      }),
    );
  }
  return findings;
}

/** Removes the markers again. Safe to repeat. */
export async function removeMarkers(run: StepRun): Promise<void> {
  const { markers } = await ledgerOf(run.move);
  for (const { place } of placesOf(run.move)) {
    const path = markers.get(String(place));
    if (path === undefined) continue;
    await place.open().remove(bytesOfText(path));
    await noteDeed(run, 'cutover', { kind: 'marker removed', place: String(place) });
  }
}

/** Which end shows its marker at a site; undefined where none does. @throws an Error where nobody answers */
export async function markerAt(
  site: WebSite,
  path: string,
  signal: AbortSignal,
): Promise<SeenEnd | undefined> {
  const { content: body } = await site.get(`/${path}`, signal, { isOneHop: true, most: 200 });
  const said = body.toString('latin1').trim();
  return (['old', 'new'] as const).find(end => said === `${content}${end}`);
}

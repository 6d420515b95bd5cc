import { estimate, type Rate } from '../../core/estimate.js';
import { type Finding, finding } from '../../core/findings/findings.js';
import { counted, seconds } from '../../core/text/numbers.js';
import { sizeText } from '../../core/text/sizes.js';
import { tryReading } from '../../ends/files/folder-test.js';
import type { FilesPlace } from '../../ends/files/place.js';
import type { HatchFacts } from '../../ends/hatch/facts.js';
import type { StepRun } from '../move/step.js';
import type { SeenFiles } from './files.js';

/** So many files are slow over FTP. */
const many = 500;

/** What a hatch gains at the old end, or would gain, and within which limits. */
export async function hatchGain(
  run: StepRun,
  place: FilesPlace,
  { survey, samples }: SeenFiles,
  read: Rate | undefined,
): Promise<Finding[]> {
  const { files, bytes } = survey;
  const about = (rate: Rate | undefined) => {
    const { pack = 0 } = estimate({ files, bytes, read: rate, write: undefined, dump: undefined });
    return pack < 1 ? 'under 1 s' : `about ${seconds(pack)}`;
  };
  const all = `${counted(files, 'file')} (${sizeText(bytes)})`;
  if (place.hatch) {
    const straight = await tryReading(place.openStraight(), samples, run.signal);
    const facts = await place.hatch.facts();
    return [
      finding({
        level: 'note',
        code: 'hatch-used',
        place: place.text,
        what: `${all} take ${about(straight)} over FTP and ${about(read)} through the hatch; ${limitsText(facts)}`,
        remedy: 'Nothing needs to be done; it is taken away at the end of each command',
      }),
    ];
  }
  if (!/^ftps?:/.test(place.text) || files < many) return [];
  return [
    finding({
      level: 'note',
      code: 'hatch-would-help',
      place: place.text,
      what: `${all} take ${about(read)} over FTP, one by one`,
      remedy: 'Where PHP runs at this host, hatch: true carries them as a stream (see docs/hatch.md)',
    }),
  ];
}

/** What PHP has and may at a host. */
function limitsText({ php, sapi, limits, writesAsOwner }: HatchFacts): string {
  const memory = limits.memory_limit === '-1' ? 'no limit of memory' : `${limits.memory_limit} of memory`;
  const time =
    limits.max_execution_time === '0' ? 'no limit of time' : `${limits.max_execution_time} s for a request`;
  const writes = writesAsOwner ? '' : '; PHP is another account there, so FTP writes the files';
  return `PHP ${php} (${sapi}) has ${memory} and ${time}${writes}`;
}

import { formatAddress } from '../core/address/address.js';
import { finding } from '../core/findings/findings.js';
import { dialects } from '../core/redirects/dialects.js';
import { doStep, type StepOutcome, type StepRun } from './move/step.js';

export interface RedirectsResult {
  readonly from: string;
  readonly to: string;
  /** The files written, the one for the sheet's server first. */
  readonly files: readonly {
    readonly server: string;
    readonly file: string;
    readonly where: string;
    readonly rules: string;
  }[];
}

/** Writes the rule that sends every old path to the same path at the new address, for each kind of web server. */
export async function redirects(run: StepRun): Promise<StepOutcome<RedirectsResult>> {
  const { move } = run;
  const { oldAddress: from, newAddress: to } = move;
  const wanted = move.sheet.redirects.server;
  const inputs = { from: formatAddress(from), to: formatAddress(to), server: wanted };
  return doStep(run, 'redirects', inputs, async findings => {
    if (inputs.from === inputs.to) {
      findings.add(
        finding({
          level: 'note',
          code: 'redirects-not-needed',
          place: inputs.from,
          what: 'The address stays the same, so no redirects are needed',
          remedy: 'Nothing needs to be done',
        }),
      );
      return { result: { ...inputs, files: [] }, brief: {} };
    }
    const files: RedirectsResult['files'][number][] = [];
    for (const dialect of dialects) {
      const rules = dialect.samePath(from, to);
      const file = await move.folder.write(dialect.file, rules);
      files.push({ server: dialect.name, file, where: dialect.where(from), rules });
    }
    files.sort((a, b) => Number(b.server === wanted) - Number(a.server === wanted));
    const result = { from: inputs.from, to: inputs.to, files };
    return { result, brief: { files: files.map(({ file }) => file) } };
  });
}

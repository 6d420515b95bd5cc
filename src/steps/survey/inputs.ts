import { traceOfSecret } from '../../core/journal.js';
import { identityOf } from '../move/identity.js';
import type { StepRun } from '../move/step.js';

/** What a survey depends on. */
export async function surveyInputs({ move }: StepRun): Promise<Record<string, unknown>> {
  const { sheet } = move;
  const database = sheet.new.database && {
    ...sheet.new.database,
    password: traceOfSecret(sheet.new.database.password),
  };
  // Places without the passwords that the sheet may have in them.
  const old = { ...sheet.old, files: move.oldFiles?.text, login: undefined };
  const next = { ...sheet.new, files: move.newFiles?.text, login: undefined, database };
  return { sheet: { ...sheet, old, new: next }, dump: await identityOf(move.oldDump) };
}

import { stateOf } from '../../core/journal.js';
import type { MoveFolder } from '../../ends/move-folder/move-folder.js';
import { outcomeOf, type StepOutcome, type StepRun } from '../move/step.js';
import { type Placed, putRedirects, takeBackRedirects } from './placing.js';
import { type RedirectTest, testRedirects } from './test.js';
import { type RedirectTrial, tryRedirects } from './try.js';

export function put(run: StepRun): Promise<StepOutcome<Placed>> {
  return outcomeOf('redirects', async () => {
    const { placed, findings } = await putRedirects(run);
    return { result: placed, findings };
  });
}

export function takeBack(run: StepRun): Promise<StepOutcome<Placed>> {
  return outcomeOf('redirects', async () => {
    const { placed, findings } = await takeBackRedirects(run);
    return { result: placed, findings };
  });
}

/** Tests them, and keeps the result for the report. */
export function test(run: StepRun): Promise<StepOutcome<RedirectTest>> {
  return outcomeOf('redirects', async () => {
    const { test: result, findings } = await testRedirects(run);
    await run.move.folder.write(
      testFile,
      `${JSON.stringify({ ...result, when: new Date().toISOString() })}\n`,
    );
    return { result, findings };
  });
}

/** Where the last test is kept. */
const testFile = 'results/redirects-test.json';

/** A test, with when it was made (ISO 8601). */
export interface KeptRedirectTest extends RedirectTest {
  readonly when: string;
}

/** The last test; undefined where there was none since the last plan. */
export async function lastTest(folder: MoveFolder): Promise<KeptRedirectTest | undefined> {
  const text = await folder.read(testFile);
  const { record } = stateOf(await folder.readJournal(), 'redirects');
  const test = text === undefined ? undefined : (JSON.parse(text) as KeptRedirectTest);
  return test && test.when >= (record?.at ?? '') ? test : undefined;
}

export function tryOut(
  { move }: StepRun,
  wishes: readonly string[],
): Promise<StepOutcome<RedirectTrial['tried']>> {
  return outcomeOf('redirects', async () => {
    const { tried, findings } = await tryRedirects(move, wishes);
    return { result: tried, findings };
  });
}

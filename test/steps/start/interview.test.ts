import assert from 'node:assert/strict';
import { existsSync, readFileSync, statSync } from 'node:fs';
import { join } from 'node:path';
import { test } from 'node:test';
import { AnswerTests } from '../../../src/steps/start/answer-checks.js';
import type { AnswerTest, StartWish } from '../../../src/steps/start/answers.js';
import { type Interviewee, interview } from '../../../src/steps/start/interview.js';
import { AnswerStore } from '../../../src/steps/start/saved-answers.js';
import { makeClub, oldPlace } from '../../help/club.js';
import { folder } from '../../help/program.js';

/** Somebody who answers questions by their keys, the first answer first, and then is asked no more. */
class Scripted implements Interviewee {
  readonly asked: string[] = [];
  readonly shown: AnswerTest[] = [];
  resumed = 0;
  private readonly answers: Record<string, unknown[]>;
  private readonly choices: string[];

  constructor(answers: Record<string, unknown[]>, choices: string[]) {
    this.answers = answers;
    this.choices = choices;
  }

  async answer({ key }: { key: string }, _: StartWish, offered: unknown): Promise<unknown> {
    this.asked.push(key);
    const [answer] = this.answers[key]?.splice(0, 1) ?? [offered];
    if (answer instanceof Error) throw answer;
    return answer;
  }

  async choose<Value extends string>(_: string, choices: readonly { value: Value }[]): Promise<Value> {
    const choice = this.choices.shift();
    const found = choices.find(({ value }) => value === choice);
    assert.ok(found, `${choice} is not among ${choices.map(({ value }) => value).join()}`);
    return found.value;
  }

  show(result: AnswerTest): void {
    this.shown.push(result);
  }

  resumes(answers: number): void {
    this.resumed = answers;
  }
}

const signal = new AbortController().signal;
const good = () => ({
  old: [oldPlace.address],
  oldDump: ['old/club.sql.gz'],
  new: ['https://n.example'],
  newServer: [undefined],
});

test('every answer can be changed: after a failed test any that it depends on, and all at the end', async t => {
  const root = folder(t);
  await makeClub(root);
  const sheet = join(root, 'move.yaml');
  const person = new Scripted(
    {
      ...good(),
      oldFiles: ['sftp://nobody@127.0.0.1:9/site', 'old/site'],
      newFiles: ['n', `${root}/m`],
      oldFilesPassword: ['pw'],
    },
    // The login fails: the place is changed, and with it there is no login to ask for.
    ['oldFiles', 'newFiles', 'newPrefix', 'write'],
  );
  const tests = new AnswerTests(sheet, signal);
  const store = new AnswerStore(sheet);
  const wish = await interview({ given: { newPrefix: 'a_' }, tests, person, store, signal });
  const times = (key: string) => person.asked.filter(one => one === key).length;
  assert.deepEqual(
    ['old', 'oldFiles', 'oldKey', 'oldFilesPassword', 'newFiles', 'newPrefix', 'webServer'].map(times),
    [1, 2, 1, 1, 2, 1, 1],
  );
  assert.deepEqual(
    [wish.oldFiles, wish.newFiles, wish.oldFilesPassword, wish.newPrefix],
    ['old/site', `${root}/m`, undefined, 'a_'],
  );
  assert.match(person.shown.map(({ said }) => said).join('\n'), /nobody listens[\s\S]*wordpress 6\.4\.3/);
});

test('an interrupted interview resumes: nothing that was answered is asked again, no secret is in its file', async t => {
  const root = folder(t);
  await makeClub(root);
  const sheet = join(root, 'move.yaml');
  const store = new AnswerStore(sheet);
  const stop = new Error('stop');
  const server = 'mysql://saltmarsh@127.0.0.1:9/saltmarsh';
  const first = new Scripted(
    { ...good(), oldFiles: ['old/site'], newServer: [server], newPassword: ['s3cret'], newDump: [stop] },
    [],
  );
  const once = (person: Interviewee) =>
    interview({ given: {}, tests: new AnswerTests(sheet, signal), person, store, signal });
  await assert.rejects(once(first), /stop/);
  const saved = join(root, '.start.json');
  assert.equal(statSync(saved).mode & 0o777, 0o600);
  assert.ok(!readFileSync(saved, 'utf8').includes('s3cret'));
  assert.match(readFileSync(join(root, '.env'), 'utf8'), /^NEW_DB_PASSWORD='s3cret'$/m);
  const second = new Scripted({ newDump: ['finished.sql'] }, ['write']);
  const wish = await once(second);
  assert.equal(second.asked[0], 'newDump');
  assert.ok(second.resumed > 5);
  assert.deepEqual([wish.old, wish.newServer, wish.newDump], [oldPlace.address, server, 'finished.sql']);
  await store.clear();
  assert.ok(!existsSync(saved));
});

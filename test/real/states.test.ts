import assert from 'node:assert/strict';
import {
  appendFileSync,
  existsSync,
  mkdirSync,
  readdirSync,
  readFileSync,
  rmSync,
  statSync,
  writeFileSync,
} from 'node:fs';
import { join } from 'node:path';
import { type TestContext, test } from 'node:test';
import fc from 'fast-check';
import { PorterError } from '../../src/core/errors.js';
import { check } from '../../src/steps/check.js';
import { noteByHand } from '../../src/steps/cutover/deeds.js';
import { deliver } from '../../src/steps/deliver.js';
import { ledgerOf } from '../../src/steps/move/ledger.js';
import { openMove } from '../../src/steps/move/open.js';
import { unlimitedRate } from '../../src/steps/move/rate-limit.js';
import type { StepRun } from '../../src/steps/move/step.js';
import { pack } from '../../src/steps/pack.js';
import { rewrite } from '../../src/steps/rewrite.js';
import { tidy } from '../../src/steps/tidy.js';
import { keepsakesOf, undo, undoKeepsake } from '../../src/steps/undo.js';
import { effort } from '../help/effort.js';
import { folder, run } from '../help/program.js';
import { needs } from '../help/real.js';
import { databaseForTests, type OwnDatabase } from './database.js';

const started = databaseForTests();
const programs = ['mariadbd', 'mariadb-install-db', 'mariadb'];
const plainDelivery = { byContent: false, mirror: false, sample: false };

/** A small old site that changes, a new end with things of others, and somebody who writes there. */
class World {
  readonly at: (...parts: string[]) => string;
  readonly database: OwnDatabase;
  readonly name: string;
  /** What only the new site had; each must be somewhere until the move is tidied. */
  readonly onlyThere: string[] = [];
  private generation = 0;
  private isTidied = false;
  private count = 0;

  constructor(t: TestContext, database: OwnDatabase, name: string) {
    const root = folder(t);
    this.at = (...parts) => join(root, ...parts);
    this.database = database;
    this.name = name;
    mkdirSync(this.at('old/wp-includes'), { recursive: true });
    writeFileSync(this.at('old/wp-includes/version.php'), "<?php $wp_version = '6.1';\n");
    writeFileSync(this.at('old/wp-load.php'), '<?php // entry\n');
    writeFileSync(
      this.at('old/wp-config.php'),
      "<?php define('DB_NAME', 'o'); define('DB_USER', 'o'); define('DB_PASSWORD', 'o'); define('DB_HOST', 'localhost'); $table_prefix = 'wp_';\n",
    );
    writeFileSync(this.at('old/edited.txt'), 'edited by nobody\n');
    mkdirSync(this.at('new/htdocs'), { recursive: true });
    writeFileSync(this.at('new/htdocs/index.html'), 'generation before');
    writeFileSync(this.at('new/of-others.txt'), 'theirs');
    database.sql(
      `DROP DATABASE IF EXISTS ${name}; CREATE DATABASE ${name} CHARACTER SET utf8mb4; USE ${name}; CREATE TABLE other_t (v text); INSERT INTO other_t VALUES ('theirs'); CREATE TABLE row_options (mine text); INSERT INTO row_options VALUES ('before')`,
    );
    mkdirSync(this.at('move'));
    writeFileSync(
      this.at('move/move.yaml'),
      `name: club
old: { address: https://old.example, files: ../old, database: { dump: ../old.sql } }
new:
  address: https://new.example
  files: ../new/htdocs
  database: { server: "mysql://root@127.0.0.1:${database.port}/${name}", password: "", prefix: row_ }
`,
    );
    this.editOld();
  }

  /** The old site goes on. */
  editOld(): void {
    this.generation++;
    rmSync(this.at(`old/of-${this.generation - 1}`), { recursive: true, force: true });
    mkdirSync(this.at(`old/of-${this.generation}`));
    writeFileSync(this.at(`old/of-${this.generation}/file.txt`), 'of one generation');
    writeFileSync(this.at('old/gen.txt'), `generation ${this.generation}\n`);
    writeFileSync(
      this.at('old.sql'),
      `SET NAMES utf8mb4;
CREATE TABLE \`wp_options\` (\`option_id\` int NOT NULL, \`option_name\` varchar(60) NOT NULL, \`option_value\` text NOT NULL, PRIMARY KEY (\`option_id\`)) ENGINE=InnoDB;
INSERT INTO \`wp_options\` VALUES (1,'home','https://old.example'),(2,'gen','generation ${this.generation}');
CREATE TABLE \`wp_posts\` (\`ID\` int NOT NULL, \`post_content\` text NOT NULL, PRIMARY KEY (\`ID\`)) ENGINE=InnoDB;
INSERT INTO \`wp_posts\` VALUES ${Array.from({ length: 30 }, (_, i) => `(${i},'https://old.example/${postOf(i, this.generation)}')`).join()};
CREATE TABLE \`wp_users\` (\`ID\` int NOT NULL, PRIMARY KEY (\`ID\`)) ENGINE=InnoDB;
CREATE TABLE \`wp_nokey\` (\`v\` text) ENGINE=MyISAM;
INSERT INTO \`wp_nokey\` VALUES ('generation ${this.generation % 2}');
`,
    );
  }

  /** Somebody writes a row at the new site, where it is. */
  writeRow(): void {
    if (!this.tables().includes('row_posts')) return;
    const mark = `only-row-${++this.count}`;
    this.database.sql(`INSERT INTO row_posts VALUES (${1000 + this.count}, '${mark}')`, this.name);
    this.onlyThere.push(mark);
  }

  /** Somebody edits a row that was delivered. */
  editRow(number: number): void {
    if (!this.tables().includes('row_posts')) return;
    const mark = `only-change-${++this.count}`;
    const id = number % 30;
    this.database.sql(
      `UPDATE row_posts SET post_content = concat(post_content, ' ${mark}') WHERE ID = ${id}`,
      this.name,
    );
    this.onlyThere.push(mark);
  }

  /** Somebody edits a file that was delivered. */
  editFile(): void {
    const file = this.at('new/htdocs/edited.txt');
    if (!existsSync(file)) return;
    const mark = `only-edit-${++this.count}`;
    appendFileSync(file, `${mark}\n`);
    this.onlyThere.push(mark);
  }

  upload(): void {
    if (!existsSync(this.at('new/htdocs/wp-load.php'))) return;
    const mark = `only-upload-${++this.count}`;
    writeFileSync(this.at(`new/htdocs/${mark}.txt`), mark);
    this.onlyThere.push(mark);
  }

  async stepRun(): Promise<StepRun> {
    const move = await openMove(this.at('move/move.yaml'), {});
    return { move, events: () => {}, signal: new AbortController().signal, rate: unlimitedRate };
  }

  /** @returns whether it was done; what it finds may stop it before it changes anything */
  async does(command: string, number: number): Promise<boolean> {
    const step = await this.stepRun();
    const again = { ...step, again: true };
    switch (command) {
      case 'pack':
        await pack(again);
        break;
      case 'rewrite':
        await rewrite(step);
        break;
      case 'deliver':
        return (await deliver(step, plainDelivery)).state !== 'stopped';
      case 'deliver all':
        return (await deliver(again, plainDelivery)).state !== 'stopped';
      case 'replace':
        return (await deliver(step, { ...plainDelivery, replaceChanges: true })).state !== 'stopped';
      case 'undo':
        return (await undo(step)).state !== 'stopped';
      case 'keepsake': {
        const kept = await this.keepsake(number);
        if (kept !== undefined) await undoKeepsake(step, kept);
        break;
      }
      case 'check':
        await check(again);
        break;
      case 'live':
        await noteByHand(step, number % 3 === 0 ? 'back' : 'switch');
        break;
      case 'tidy': {
        const { state } = await tidy(step, { unchecked: true, notSwitched: true });
        if (state === 'done') this.isTidied = true;
        break;
      }
    }
    return true;
  }

  /** The number of one of those that are kept, for a number at random; undefined where nothing is. */
  async keepsake(random: number): Promise<number | undefined> {
    const kept = await keepsakesOf((await this.stepRun()).move);
    return kept[random % kept.length]?.number;
  }

  tables(): string[] {
    return this.database.sql('SHOW TABLES', this.name).trim().split('\n');
  }

  /** Everything that is at the new end or kept, as text. */
  private everything(): string {
    const rows = this.tables().map(table => this.database.sql(`SELECT * FROM \`${table}\``, this.name));
    const files = ['new', 'move/keepsake'].flatMap(name =>
      existsSync(this.at(name)) ? textsIn(this.at(name)) : [],
    );
    return [...rows, ...files].join('\n');
  }

  /** @param wasKilled whether an interrupted run may have left the site behind its maintenance page */
  async assertPromises(wasKilled: boolean): Promise<void> {
    const all = this.isTidied ? undefined : this.everything();
    for (const mark of this.onlyThere)
      if (all !== undefined) assert.ok(all.includes(mark), `${mark} is gone`);
    assert.equal(this.database.sql('SELECT * FROM other_t', this.name), 'theirs\n');
    assert.equal(readFileSync(this.at('new/of-others.txt'), 'utf8'), 'theirs');
    const { move } = await this.stepRun();
    const { gates, life } = await ledgerOf(move);
    if (life === 'closed')
      assert.ok(
        this.tables().every(name => !name.startsWith('able_porter_')),
        this.tables().join(),
      );
    // Behind its page, or before anything has ended, nobody sees which generation is there.
    if (gates.size > 0 || wasKilled) return;
    const generation = this.generationOfFiles();
    assert.equal(generation, this.generationOfRows());
    this.assertWhole(Number(generation.replace('generation ', '')));
  }

  /** Every file and row is of one generation, but for what somebody added. */
  private assertWhole(generation: number): void {
    if (Number.isNaN(generation)) return;
    // What the old site no longer has stays, as nobody asked for it to be removed.
    const folders = readdirSync(this.at('new/htdocs')).filter(name => name.startsWith('of-'));
    const last = Math.max(...folders.map(name => Number(name.slice(3))));
    assert.equal(last, generation);
    const posts = this.database.sql('SELECT ID, post_content FROM row_posts WHERE ID < 30', this.name);
    for (const line of posts.trim().split('\n')) {
      const [id = '', text = ''] = line.split('\t');
      assert.equal(text.split(' ')[0], `https://new.example/${postOf(Number(id), generation)}`);
    }
    const unkeyed = this.database.sql('SELECT v FROM row_nokey', this.name).trim();
    assert.equal(unkeyed, `generation ${generation % 2}`);
  }

  private generationOfFiles(): string {
    const file = this.at('new/htdocs/gen.txt');
    if (existsSync(file)) return readFileSync(file, 'utf8').trim();
    return existsSync(this.at('new/htdocs/index.html')) ? 'before' : 'nothing';
  }

  private generationOfRows(): string {
    if (!this.tables().includes('row_options')) return 'nothing';
    const isBefore = this.database.sql('SHOW COLUMNS FROM row_options', this.name).startsWith('mine');
    if (isBefore) return 'before';
    return this.database
      .sql("SELECT option_value FROM row_options WHERE option_name = 'gen'", this.name)
      .trim();
  }
}

/** What of a post is in its address: every seventh is another one in each generation. */
function postOf(id: number, generation: number): string {
  return `${id}/${id % 7 === generation % 7 ? generation : ''}`;
}

function textsIn(root: string): string[] {
  return readdirSync(root, { recursive: true })
    .map(name => join(root, String(name)))
    .filter(path => statSync(path).isFile())
    .map(path => readFileSync(path, 'latin1'));
}

/** Commands of the program that are run as such, and killed at some operation. */
const killable: Readonly<Record<string, readonly string[]>> = {
  deliver: ['deliver', '--yes'],
  replace: ['deliver', '--yes', '--replace-changes'],
  undo: ['undo', '--yes'],
  keepsake: ['undo', '--yes', '--keepsake'],
};

interface Action {
  readonly what: string;
  readonly number: number;
  /** Killed at so many hundredths of what it does; not at all beyond. */
  readonly killed: number;
}

const action: fc.Arbitrary<Action> = fc.record({
  what: fc.oneof(
    { weight: 6, arbitrary: fc.constantFrom('deliver', 'replace', 'deliver all') },
    { weight: 3, arbitrary: fc.constantFrom('undo', 'keepsake', 'check', 'live') },
    { weight: 6, arbitrary: fc.constantFrom('write row', 'edit row', 'edit file', 'upload') },
    { weight: 4, arbitrary: fc.constantFrom('next generation') },
    { weight: 1, arbitrary: fc.constant('tidy') },
  ),
  number: fc.nat(1000),
  killed: fc.nat(400),
});

/** One life of a world, with all promises looked at after each thing that is done. */
async function live(t: TestContext, world: World, actions: readonly Action[]): Promise<void> {
  for (const first of ['pack', 'rewrite', 'deliver']) await world.does(first, 0);
  await world.assertPromises(false);
  let wasKilled = false;
  const done: string[] = [];
  try {
    for (const { what, number, killed } of actions) {
      done.push(`${what} ${number} ${killed}`);
      if (what === 'write row') world.writeRow();
      else if (what === 'edit row') world.editRow(number);
      else if (what === 'edit file') world.editFile();
      else if (what === 'upload') world.upload();
      else if (what === 'next generation') {
        world.editOld();
        for (const step of ['pack', 'rewrite']) await attempt(() => world.does(step, 0));
      } else if (killable[what] && killed < 100) {
        const kept = what === 'keepsake' ? [await world.keepsake(number)] : [];
        if (kept.includes(undefined)) continue;
        // A run has some hundred operations on files and the network.
        await run([...killable[what], ...kept.map(String)], {
          cwd: world.at('move'),
          killAt: 20 + killed * 4,
        });
        wasKilled = true;
      } else {
        const went = await attempt(() => world.does(what, number));
        // A run that ends puts right what a killed one has left.
        if (went && ['deliver', 'replace', 'deliver all', 'undo'].includes(what)) wasKilled = false;
      }
      await world.assertPromises(wasKilled);
    }
  } catch (error) {
    t.diagnostic(
      `after ${done.join(', ')} in ${world.at()}: ${error instanceof Error ? error.stack : error}`,
    );
    throw error;
  }
}

test('whatever is done in whatever order, with others writing and kills at any moment, every promise is kept', {
  timeout: 3_000_000,
}, async t => {
  if (!needs(t, ...programs)) return;
  const database = started();
  let worlds = 0;
  await fc.assert(
    fc.asyncProperty(fc.array(action, { minLength: 3, maxLength: 12 }), async actions => {
      await live(t, new World(t, database, `states_${++worlds % 4}`), actions);
    }),
    { numRuns: effort(4, 80), endOnFailure: true },
  );
});

test('whatever is killed wherever, and whatever comes after it, every promise is kept', {
  timeout: 3_000_000,
}, async t => {
  if (!needs(t, ...programs)) return;
  const database = started();
  const made = { number: 0, killed: 400 };
  const changed = ['next generation', 'edit row', 'edit file', 'replace'];
  const lives = Object.keys(killable).flatMap(killed =>
    Array.from({ length: 60 }, (_, at) => at).flatMap(at =>
      ['deliver', 'deliver all', 'replace', 'undo'].map(next => [
        // Restoring a keepsake needs one.
        ...(killed === 'keepsake' ? changed : []).map(what => ({ ...made, what })),
        { what: killed, number: at, killed: at },
        { ...made, what: 'edit row' },
        { ...made, what: next },
        { ...made, what: 'edit row', number: 1 },
        { ...made, what: 'undo' },
        { ...made, what: 'deliver' },
      ]),
    ),
  );
  const share = lives.length / effort(6, Number(process.env.ABLE_PORTER_LIVES ?? 40));
  for (let i = 0; i < lives.length; i += share)
    await live(t, new World(t, database, `killed_${Math.floor(i) % 4}`), lives[Math.floor(i)]!);
});

/** @returns false where the program refuses */
async function attempt(work: () => Promise<boolean>): Promise<boolean> {
  try {
    return await work();
  } catch (error) {
    if (error instanceof PorterError) return false;
    throw error;
  }
}

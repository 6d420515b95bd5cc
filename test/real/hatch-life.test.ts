import assert from 'node:assert/strict';
import { execFileSync } from 'node:child_process';
import { readdirSync, readFileSync, statSync, writeFileSync } from 'node:fs';
import { join } from 'node:path';
import { test } from 'node:test';
import { needs } from '../help/real.js';
import { cmsPrograms } from './cms.js';
import { databaseForTests } from './database.js';
import { cheapHosts, hostPrograms, hosts } from './hatch-hosts.js';

const started = databaseForTests();

/** Every file below a folder with its content's checksum, mode and time. */
function treeOf(at: string): string {
  return execFileSync(
    'sh',
    ['-c', 'find . -printf "%y %m %P %l\\n" | sort; find . -type f -print0 | sort -z | xargs -0 sha256sum'],
    {
      cwd: at,
    },
  ).toString();
}

for (const host of hosts)
  test(`the life of a move of a real CMS through hatches alone: ${host}`, { timeout: 900_000 }, async t => {
    if (!needs(t, ...cmsPrograms, ...hostPrograms)) return;
    const { database, root, cwd, step, left } = await cheapHosts(t, started(), host);
    const before = treeOf(join(root, 'old'));
    const survey = (await step(['survey'])).replace(/\s+/g, ' ');
    assert.match(
      survey,
      /take (?:about|under) [\w. ]{1,16} over FTP and (?:about|under) [\w. ]{1,16} through the hatch/,
    );
    assert.match(survey, /PHP 8\.\d+\.\d+ \([\w-]+\) has 64M of memory and 10 s for a request/);
    await step(['go']);
    assert.equal(treeOf(join(root, 'old')), before, 'nothing at the old end has changed');
    assert.deepEqual(left(), []);
    assert.match(
      database.sql("SELECT option_value FROM new_club.sr4_options WHERE option_name='home'").toString(),
      /http:\/\/new\.example/,
    );
    const like = (path: string) => statSync(join(root, 'new', path));
    const same = statSync(join(root, 'old/wp-includes/version.php'));
    assert.deepEqual(
      [like('wp-includes/version.php').mode, Math.floor(like('wp-includes/version.php').mtimeMs / 1000)],
      [same.mode, Math.floor(same.mtimeMs / 1000)],
    );
    // A second delivery after changes at the old site.
    writeFileSync(join(root, "old/wp-content/uploads/naïve ~ 'quoted'.txt"), 'tide');
    database.sql("UPDATE old_club.sr4_posts SET post_title='Ebb' WHERE post_type='page' LIMIT 1");
    await step(['go']);
    assert.equal(readFileSync(join(root, "new/wp-content/uploads/naïve ~ 'quoted'.txt"), 'utf8'), 'tide');
    assert.match(
      database.sql("SELECT COUNT(*) FROM new_club.sr4_posts WHERE post_title='Ebb'").toString(),
      /^1$/m,
    );
    if (host !== 'nginx-fpm') {
      // The hatch still answers at a site that is closed for what writes, or leads all its visitors elsewhere.
      await step(['cutover', 'freeze', '--minutes', '9']);
      assert.match(readFileSync(join(root, 'old/.htaccess'), 'utf8'), /freeze of the move/);
      await step(['pack', '--again']);
      await step(['cutover', 'thaw']);
      await step(['redirects', 'plan']);
      await step(['redirects', 'put']);
      assert.match(readFileSync(join(root, 'old/.htaccess'), 'utf8'), /new\.example/);
      await step(['pack', '--again']);
      await step(['redirects', 'take-back']);
      assert.deepEqual(left(), []);
      await step(['go']);
    }
    await step(['undo']);
    assert.deepEqual(readdirSync(join(root, 'new')), []);
    // Where PHP writes as the account does, the new host takes the files from the old one itself.
    const delivered = (await step(['deliver'])).replace(/\s+/g, ' ');
    assert.match(
      delivered,
      host === 'apache-module' ? /transferred file by file/ : /transferred from host to host/,
    );
    await step(['check']);
    const tidied = await step(['tidy']);
    assert.match(tidied, /hatches, over FTP and HTTP: none/);
    assert.deepEqual(left(), []);
    // No secret of a hatch is written down.
    for (const name of readdirSync(cwd, { recursive: true }).map(String))
      if (statSync(join(cwd, name)).isFile())
        assert.doesNotMatch(readFileSync(join(cwd, name), 'latin1'), /PRIVATE KEY|'secret'/, name);
  });

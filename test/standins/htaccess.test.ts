import assert from 'node:assert/strict';
import { test } from 'node:test';
import fc from 'fast-check';
import { apache } from '../../src/core/redirects/dialects/apache.js';
import { redirector } from '../../src/core/redirects/redirect-of.js';
import { rewrite } from '../../src/standins/web/htaccess.js';
import { places, requests, setOf, sets } from '../help/redirect-sets.js';

test('the stand-in follows the rules for Apache as the function says', async () => {
  const one = places.slice(0, 7).filter(({ also }) => !also);
  let led = 0;
  await fc.assert(
    fc.asyncProperty(
      sets(one).chain(written =>
        fc.tuple(fc.constant(written), fc.array(requests(written), { minLength: 20, maxLength: 20 })),
      ),
      async ([written, asked]) => {
        const set = setOf(written);
        const answers = redirector(set);
        const files = new Map(
          apache
            .files(set)
            .map(({ path, text }, i) => [i === 0 ? '' : path.replace(/\/\.htaccess$/, ''), text]),
        );
        const mount = new URL(written.old).pathname.replace(/\/$/, '');
        for (const request of asked) {
          // Apache drops an empty query.
          if (/\?$|[\s]/.test(request.uri)) continue;
          const wanted = answers(request);
          const found = await rewrite(
            { ...request, isSecure: false },
            async folder => files.get(folder),
            mount,
          );
          if (wanted) led++;
          assert.equal(
            `${found?.status} ${found?.location}`,
            `${wanted?.status} ${wanted?.target}`,
            `${request.method} ${request.host} ${request.uri}`,
          );
        }
      },
    ),
    { numRuns: 60, includeErrorInReport: true, endOnFailure: true },
  );
  assert.ok(led > 200, `${led} were redirected`);
});

import { mkdirSync, writeFileSync } from 'node:fs';
import { join } from 'node:path';
import { writeClubDump, writeClubFiles } from '../../src/standins/rowing-club/write.js';

/** Where the hosts of a made-up fleet are: places without a closing slash, with what they need to be entered. */
export interface FleetHosts {
  readonly old: { readonly place: string; readonly login?: object };
  readonly new: { readonly place: string; readonly login?: object };
}

export const siteName = (i: number) => `club-${String(i).padStart(2, '0')}`;

/**
 * Makes the old sites of a fleet, and `fleet.yaml` with their table, in a folder.
 * @param hostsOf where the files of each site are; left out, all are in folders of this machine
 */
export async function makeFleet(
  root: string,
  sites: number,
  hostsOf: (i: number) => FleetHosts = () => ({
    old: { place: join(root, 'old') },
    new: { place: join(root, 'new') },
  }),
  more = '',
): Promise<string> {
  const folder = join(root, 'fleet');
  mkdirSync(join(folder, 'dumps'), { recursive: true });
  const lines = ['name;address;old files;new files;new address'];
  for (let i = 1; i <= sites; i++) {
    const name = siteName(i);
    const place = {
      address: `https://${name}.oldhost.example`,
      temporary: `http://tmp-${i}.oldhost.example/~club`,
      prefix: `c${i}_`,
    };
    await writeClubFiles(join(root, 'old', name), place, {
      name,
      user: name,
      password: `p'w ${i}`,
      host: 'localhost',
    });
    await writeClubDump(join(folder, 'dumps', `${name}.sql.gz`), place);
    const hosts = hostsOf(i);
    lines.push(
      [
        name,
        place.address,
        `${hosts.old.place}/${name}`,
        `${hosts.new.place}/${name}`,
        `https://${name}.example`,
      ].join(';'),
    );
  }
  mkdirSync(join(root, 'new'), { recursive: true });
  writeFileSync(join(folder, 'sites.csv'), `${lines.join('\n')}\n`);
  const { old, new: next } = hostsOf(1);
  const template = {
    old: {
      address: '{address}',
      files: '{old files}',
      ...(old.login ? { login: old.login } : {}),
      database: { dump: join(folder, 'dumps', '{name}.sql.gz') },
    },
    new: {
      address: '{new address}',
      files: '{new files}',
      ...(next.login ? { login: next.login } : {}),
      database: {
        server: 'mysql://{name}@127.0.0.1:9/{name}',
        password: '${DB_{NAME}}',
        dump: '{name}.finished.sql.gz',
      },
    },
    take: { files: { without: ['wp-content/cache/'] } },
  };
  writeFileSync(
    join(folder, 'fleet.yaml'),
    `name: clubs\ntemplate: ${JSON.stringify(template)}\nsites: sites.csv\n${more}`,
  );
  const secrets = Array.from(
    { length: sites },
    (_, i) => `DB_CLUB_${String(i + 1).padStart(2, '0')}='secret of the tide ${i + 1}'`,
  );
  writeFileSync(join(folder, '.env'), `${secrets.join('\n')}\nPW="p'w %é"\n`, { mode: 0o600 });
  return folder;
}

import { writeFileSync } from 'node:fs';
import { mkdir } from 'node:fs/promises';
import { join } from 'node:path';
import { writeClubDump, writeClubFiles } from '../../src/standins/rowing-club/write.js';

export const oldPlace = {
  address: 'https://club.saltmarsh.example/site',
  temporary: 'http://tmp-4417.oldhost.example/~club',
  prefix: 'sr4_',
};
export const newPassword = `n'e"w $\\pw %@ é`;

/** Makes the rowing club's old site and a move of it in a folder; gives the move folder. */
export async function makeClub(
  root: string,
  change: (sheet: string) => string = sheet => sheet,
): Promise<string> {
  const database = { name: 'club_old', user: 'club', password: 'o\'ld"pw', host: 'localhost' };
  await writeClubFiles(join(root, 'old/site'), oldPlace, database);
  await writeClubDump(join(root, 'old/club.sql.gz'), oldPlace);
  const move = join(root, 'move');
  await mkdir(move);
  writeFileSync(join(move, '.env'), `NEW_DB_PASSWORD=\`${newPassword}\`\n`, { mode: 0o600 });
  const sheet = `name: saltmarsh
old:
  address: ${oldPlace.address}
  also: [${oldPlace.temporary}]
  files: ../old/site
  database: { dump: ../old/club.sql.gz }
new:
  address: https://saltmarshrowing.example
  files: ../new/htdocs
  database:
    server: mysql://saltmarsh@127.0.0.1:9/saltmarsh
    password: \${NEW_DB_PASSWORD}
    prefix: row_
    dump: ../new/finished.sql.gz
take:
  files: { without: ["wp-content/cache/", "*.log"] }
dns: { address-records: { old: 192.0.2.10, new: 198.51.100.20 } }
`;
  await mkdir(join(root, 'new'));
  writeFileSync(join(move, 'move.yaml'), change(sheet));
  return move;
}

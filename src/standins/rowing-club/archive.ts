import { mkdir, writeFile } from 'node:fs/promises';
import { join } from 'node:path';

/** Pages that somebody made by hand before the club had a CMS. Some still get visitors. */
const archive = [
  [
    'tides-march-2009.html',
    'Tides in March',
    'Heights at the boathouse steps in March, in metres above chart datum.',
    41,
  ],
  ['welcome.html', 'Welcome', 'A rowing club on a tidal creek, with mud when you want it least.', 22],
  [
    'boats-curlew.html',
    'Curlew, our coxed four',
    'Pale blue, built of cedar in the winter of the long frost; she likes flat water and a patient cox.',
    9,
  ],
  [
    'minutes-1987.html',
    'Minutes of 1987',
    'Present: nine members and a dog. The kettle is to be replaced.',
    2,
  ],
] as const;

/** Pages of the CMS that people come to, with how often. */
const visited = [
  ['/', 310],
  ['/tides-march/', 120],
  ['/welcome/', 64],
  ['/?p=12', 17],
  ['/join-us/?utm_source=newsletter', 33],
  ['/wp-content/uploads/creek/generated.css', 25],
  ['/wp-login.php', 40],
  ['/no-such-page/', 5],
] as const;

const clients = {
  person: 'Mozilla/5.0 (X11; Linux x86_64; rv:140.0) Gecko/20100101 Firefox/140.0',
  program: 'Mozilla/5.0 (compatible; ExampleBot/1.0; +https://bot.example/)',
};

/** Writes the hand-made pages into the folder `archive` of the old site. @param folder the old site's */
export async function writeArchive(folder: string): Promise<void> {
  await mkdir(join(folder, 'archive'), { recursive: true });
  for (const [name, title, text] of archive)
    await writeFile(
      join(folder, 'archive', name),
      `<!doctype html>\n<html lang="en"><meta charset="utf-8"><title>${title}</title><h1>${title}</h1><p>${text}</p></html>\n`,
    );
}

/** The access log of the old host over thirty days, in the combined format, the same every time. @param mount the site's path */
export function accessLog(mount: string): string {
  const lines: string[] = [];
  const pages = [...visited, ...archive.map(([name, , , hits]) => [`/archive/${name}`, hits] as const)];
  for (const [i, [page, hits]] of pages.entries())
    for (let n = 0; n < hits; n++) {
      const isProgram = (n + i) % 5 === 4;
      const day = 1 + ((n * 7 + i * 3) % 30);
      const time = `${String(day).padStart(2, '0')}/Oct/2026:${String((n * 5 + i) % 24).padStart(2, '0')}:${String((n * 13) % 60).padStart(2, '0')}:07 +0100`;
      const status = page.startsWith('/no-such') ? 404 : 200;
      lines.push(
        `192.0.2.${1 + ((n * 31 + i) % 250)} - - [${time}] "GET ${mount}${page} HTTP/1.1" ${status} 5120 "-" "${isProgram ? clients.program : clients.person}"`,
      );
    }
  return `${lines.join('\n')}\n`;
}

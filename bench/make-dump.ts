import { closeSync, openSync, writeSync } from 'node:fs';

/** What the rows of a benchmark's dump look like. */
export const dumpKinds = ['mixed', 'none', 'small', 'long', 'single'] as const;
export type DumpKind = (typeof dumpKinds)[number];

const words =
  'the creek runs slow past boathouse and staithe while crews carry oars down to morning water under a grey sky'.split(
    ' ',
  );

/** Writes a dump of about so many bytes. The same call writes the same bytes. */
export function writeDump(file: string, bytes: number, kind: DumpKind, address: string): void {
  const random = seeded(20260301);
  const sentence = (length: number) => {
    let text = '';
    while (text.length < length) text += `${words[random(words.length)]} `;
    return text.slice(0, length);
  };
  const link = kind === 'none' ? 'https://elsewhere.example/site' : address;
  const rows: Record<DumpKind, (n: number) => string> = {
    mixed: n => (n % 2 === 0 ? post(n) : meta(n)),
    none: n => (n % 2 === 0 ? post(n) : meta(n)),
    small: n => `(${n},'k${n}','${n % 50 === 0 ? `${link}/${n}` : sentence(6)}')`,
    single: n => `(${n},'${sentence(150)}${n % 5 === 0 ? `${link}/${n}` : ''}','publish')`,
    long: n =>
      `(${n},'${escaped(serialized(Array.from({ length: 8000 }, (_, i) => `${link}/${n}/${i} ${sentence(60)}`)))}')`,
  };
  const post = (n: number) => {
    const paragraphs = Array.from(
      { length: 4 },
      (_, i) => `<p>${sentence(300)}<a href="${link}/page-${n}-${i}/">more</a></p>\n`,
    );
    return `(${n},'${escaped(`${sentence(900)}${paragraphs.slice(0, 2).join('')}${sentence(300)}`)}','publish')`;
  };
  const meta = (n: number) =>
    `(${n},'${escaped(serialized([sentence(400), `${link}/wp-content/uploads/${n}.png`, sentence(500), `see ${link}/?p=${n}`, sentence(300)]))}','meta')`;

  const statementBytes = kind === 'single' ? 1 : 1_000_000;
  const fd = openSync(file, 'w');
  let written = writeSync(
    fd,
    'CREATE TABLE `sr4_posts` (\n  `ID` bigint,\n  `post_content` longtext,\n  `post_status` text\n);\n',
  );
  for (let n = 0; written < bytes; ) {
    const list: string[] = [];
    for (let size = 0; size < statementBytes; n++) {
      const row = rows[kind](n);
      list.push(row);
      size += row.length;
    }
    written += writeSync(fd, `INSERT INTO \`sr4_posts\` VALUES ${list.join(',')};\n`);
  }
  closeSync(fd);
}

function serialized(strings: readonly string[]): string {
  return `a:${strings.length}:{${strings.map((text, i) => `i:${i};s:${text.length}:"${text}";`).join('')}}`;
}

function escaped(text: string): string {
  return text.replace(/["'\\]/g, '\\$&').replaceAll('\n', '\\n');
}

/** Whole numbers below a bound, the same sequence for the same seed. */
function seeded(seed: number): (below: number) => number {
  let state = seed;
  return below => {
    state = (Math.imul(state, 1664525) + 1013904223) >>> 0;
    return Math.floor((state / 2 ** 32) * below);
  };
}

/** Programs of a far side: what asks for their version, and what shows by it that they take the options used here. */
const programs = {
  tar: { asks: 'tar --version', answers: /GNU tar|bsdtar/ },
  sha256sum: { asks: 'sha256sum --version', answers: /sha256sum.*GNU coreutils/ },
  openssl: { asks: 'openssl version', answers: /^(?:Open|Libre)SSL \d/m },
};

/** A program that may be there, or a shell that runs any. */
export type Program = 'sh' | keyof typeof programs;

/** Bytes that programs describe their versions at most. */
const mostAnswered = 64 * 1024;

/** The command that asks a shell which of them are there. */
export const asking = `echo sh; ${Object.values(programs)
  .map(({ asks }) => asks)
  .join('; ')}`;

/** The programs that are there. @param out what was reported when asked, up to a NUL */
export function programsIn(out: Buffer): ReadonlySet<Program> {
  const [answer = ''] = out.subarray(0, mostAnswered).toString().split('\0', 1);
  if (!/^sh\r?$/m.test(answer)) return new Set();
  const names = Object.keys(programs) as (keyof typeof programs)[];
  return new Set<Program>(['sh', ...names.filter(name => programs[name].answers.test(answer))]);
}

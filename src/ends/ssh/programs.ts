/** Programs of a far side: what asks for their version, and what shows by it that they take the options used here. */
const programs = {
  tar: { asks: 'tar --version', told: /GNU tar|bsdtar/ },
  sha256sum: { asks: 'sha256sum --version', told: /sha256sum.*GNU coreutils/ },
  openssl: { asks: 'openssl version', told: /^(?:Open|Libre)SSL \d/m },
};

/** A program that may be there, or a shell that runs any. */
export type Program = 'sh' | keyof typeof programs;

/** Bytes that programs tell of their versions at most. */
const mostTold = 64 * 1024;

/** The command that asks a shell which of them are there. */
export const asking = `echo sh; ${Object.values(programs)
  .map(({ asks }) => asks)
  .join('; ')}`;

/** The programs that are there. @param out what was told when asked, up to a NUL */
export function programsIn(out: Buffer): ReadonlySet<Program> {
  const [told = ''] = out.subarray(0, mostTold).toString().split('\0', 1);
  if (!/^sh\r?$/m.test(told)) return new Set();
  const names = Object.keys(programs) as (keyof typeof programs)[];
  return new Set<Program>(['sh', ...names.filter(name => programs[name].told.test(told))]);
}

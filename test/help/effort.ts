const long = process.env.ABLE_PORTER_LONG === '1';

/** How often to repeat something random, or how much of something large: little in `npm test`, much in `npm run test:long`. */
export function effort(usual: number, thorough: number): number {
  return long ? thorough : usual;
}

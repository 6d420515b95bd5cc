/** A place on the Earth (RFC 1876), in a zone file: `51 30 12.000 N 0 7 39.000 W 10.00m 1m 10000m 10m`. */

/** Half the range of an angle, and the height that counts as none, in centimetres. */
const middle = 2 ** 31;
const base = 10_000_000;
const defaults = ['1m', '10000m', '10m'];

/** @throws an Error for what is no place */
export function locationFromWords(words: readonly string[]): Buffer {
  let rest = words;
  const angle = (directions: string): number => {
    const end = rest.findIndex(word => directions.includes(word.toUpperCase()));
    if (end < 1 || end > 3) throw new Error('a place without its directions');
    const [degrees = 0, minutes = 0, seconds = 0] = rest.slice(0, end).map(Number);
    const thousandths = Math.round(((degrees * 60 + minutes) * 60 + seconds) * 1000);
    if (!(thousandths <= 648_000_000)) throw new Error('an angle of a place that is none');
    const sign = rest[end]!.toUpperCase() === directions[0] ? 1 : -1;
    rest = rest.slice(end + 1);
    return middle + sign * thousandths;
  };
  const latitude = angle('NS');
  const longitude = angle('EW');
  const [height = '', ...sizes] = rest;
  const data = Buffer.alloc(16);
  [...sizes, ...defaults.slice(sizes.length)].forEach((size, i) => {
    data[i + 1] = precision(centimetres(size));
  });
  data.writeUInt32BE(latitude, 4);
  data.writeUInt32BE(longitude, 8);
  data.writeUInt32BE(centimetres(height) + base, 12);
  return data;
}

function centimetres(text: string): number {
  if (!/^-?\d+(?:\.\d{1,2})?m?$/.test(text)) throw new Error(`${JSON.stringify(text)} is no length`);
  return Math.round(Number.parseFloat(text) * 100);
}

/** One digit and a power of ten. */
function precision(length: number): number {
  const power = Math.max(0, String(Math.floor(length)).length - 1);
  if (power > 9) throw new Error('a size of a place that is none');
  return (Math.floor(length / 10 ** power) << 4) | power;
}

/** @throws an Error for another version than that of RFC 1876 */
export function locationToText(data: Buffer): string {
  if (data[0] !== 0) throw new Error('a place of an unknown version');
  const angle = (value: number, [positive, negative]: string) => {
    const thousandths = Math.abs(value - middle);
    const minutes = Math.floor(thousandths / 60_000);
    const seconds = ((thousandths % 60_000) / 1000).toFixed(3);
    return `${Math.floor(minutes / 60)} ${minutes % 60} ${seconds} ${value >= middle ? positive : negative}`;
  };
  const size = (byte: number) => `${((byte >> 4) * 10 ** (byte & 15)) / 100}m`;
  return [
    angle(data.readUInt32BE(4), 'NS'),
    angle(data.readUInt32BE(8), 'EW'),
    `${((data.readUInt32BE(12) - base) / 100).toFixed(2)}m`,
    ...[1, 2, 3].map(i => size(data[i]!)),
  ].join(' ');
}

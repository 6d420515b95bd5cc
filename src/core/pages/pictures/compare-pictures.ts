import pixelmatch from 'pixelmatch';
import { PNG } from 'pngjs';

/** What two pictures of a page have different, apart from what changes on its own. */
export interface PictureComparison {
  /** How much of the picture differs, 0 to 1. */
  readonly share: number;
  /** The new picture in grey, with what differs in red: PNG. */
  readonly marked: Buffer | undefined;
  /** Where most of it is: the rectangle around all that differs, in pixels; undefined where nothing does. */
  readonly around:
    | { readonly x: number; readonly y: number; readonly width: number; readonly height: number }
    | undefined;
}

/** Squares of so many pixels are masked as a whole, since what changes is seldom in the same place to the pixel. */
const square = 12;
/** Colours that differ by less are the same to the eye (see the package's README). */
const threshold = 0.12;

/** Looks at the same page, one after the other: PNG. */
export type Looks = readonly [Buffer, ...Buffer[]];

/**
 * Compares the first picture of a page at the old site with the last one at the new site. Where looks at the same page
 * differ among themselves, nothing is compared.
 * @throws Error for bytes that are no PNG
 */
export function comparePictures(old: Looks, next: Looks): PictureComparison {
  if (old[0].equals(next.at(-1)!)) return { share: 0, marked: undefined, around: undefined };
  const [oldOnes, newOnes] = [old, next].map(looks => looks.map(bytes => PNG.sync.read(bytes)));
  const width = Math.max(...[...oldOnes!, ...newOnes!].map(one => one.width));
  const height = Math.max(...[...oldOnes!, ...newOnes!].map(one => one.height));
  const [olds, news] = [oldOnes!, newOnes!].map(ones => ones.map(one => onSheet(one, width, height)));
  const [before, after] = [olds![0]!, news!.at(-1)!];
  const noise = maskOf([olds!, news!], width, height);
  const found = new Uint8Array(width * height);
  const diff = new PNG({ width, height });
  pixelmatch(before.data, after.data, diff.data, width, height, { threshold, diffMask: true });
  for (let i = 0; i < found.length; i++) if (diff.data[i * 4 + 3]! > 0) found[i] = 1;
  let [count, left, top, right, bottom] = [0, width, height, 0, 0];
  for (let i = 0; i < found.length; i++) {
    if (found[i] === 0) continue;
    const [x, y] = [i % width, Math.floor(i / width)];
    if (noise(x, y)) {
      found[i] = 0;
      continue;
    }
    count++;
    [left, top, right, bottom] = [
      Math.min(left, x),
      Math.min(top, y),
      Math.max(right, x),
      Math.max(bottom, y),
    ];
  }
  if (count === 0) return { share: 0, marked: undefined, around: undefined };
  const around = { x: left, y: top, width: right - left + 1, height: bottom - top + 1 };
  return { share: count / found.length, marked: markedPicture(after, found, around), around };
}

/** A picture on a sheet of a size that all have; what is beyond it is white. */
function onSheet(picture: PNG, width: number, height: number): PNG {
  const sheet = new PNG({ width, height });
  sheet.data.fill(255);
  PNG.bitblt(picture, sheet, 0, 0, picture.width, picture.height, 0, 0);
  return sheet;
}

/** Which squares differ between looks at the same page; those beside them are masked too. */
function maskOf(
  pages: readonly (readonly PNG[])[],
  width: number,
  height: number,
): (x: number, y: number) => boolean {
  const columns = Math.ceil(width / square);
  const rows = Math.ceil(height / square);
  const noisy = new Uint8Array(columns * rows);
  const diff = new PNG({ width, height });
  for (const [first, ...others] of pages)
    for (const other of others) {
      diff.data.fill(0);
      pixelmatch(first!.data, other.data, diff.data, width, height, {
        threshold,
        diffMask: true,
        includeAA: true,
      });
      for (let i = 0; i < width * height; i++)
        if (diff.data[i * 4 + 3]! > 0)
          noisy[Math.floor(Math.floor(i / width) / square) * columns + Math.floor((i % width) / square)] = 1;
    }
  const isNoisy = (column: number, row: number) =>
    column >= 0 && row >= 0 && column < columns && row < rows && noisy[row * columns + column] === 1;
  return (x, y) => {
    const [column, row] = [Math.floor(x / square), Math.floor(y / square)];
    for (let dy = -1; dy <= 1; dy++)
      for (let dx = -1; dx <= 1; dx++) if (isNoisy(column + dx, row + dy)) return true;
    return false;
  };
}

/** Width of the frame around what differs, and its distance, in pixels. */
const frame = { width: 6, distance: 8 };

/** A picture in grey, with some of its pixels in red and a red frame around them. */
function markedPicture(
  { width, height, data }: PNG,
  red: Uint8Array,
  around: NonNullable<PictureComparison['around']>,
): Buffer {
  drawFrame(red, width, height, around);
  const marked = new PNG({ width, height });
  for (let i = 0; i < red.length; i++) {
    const at = i * 4;
    const light = data[at]! * 0.3 + data[at + 1]! * 0.59 + data[at + 2]! * 0.11;
    const grey = Math.round(255 - (255 - light) * 0.35);
    marked.data[at] = red[i] ? 214 : grey;
    marked.data[at + 1] = red[i] ? 30 : grey;
    marked.data[at + 2] = red[i] ? 30 : grey;
    marked.data[at + 3] = 255;
  }
  return PNG.sync.write(marked, { deflateLevel: 6 });
}

function drawFrame(
  red: Uint8Array,
  width: number,
  height: number,
  around: NonNullable<PictureComparison['around']>,
): void {
  const reach = frame.distance + frame.width;
  const isInside = (x: number, y: number, by: number) =>
    x >= around.x - by &&
    y >= around.y - by &&
    x < around.x + around.width + by &&
    y < around.y + around.height + by;
  for (let y = Math.max(0, around.y - reach); y < Math.min(height, around.y + around.height + reach); y++)
    for (let x = Math.max(0, around.x - reach); x < Math.min(width, around.x + around.width + reach); x++)
      if (!isInside(x, y, frame.distance)) red[y * width + x] = 1;
}

import { PNG } from 'pngjs';

/**
 * Draws a picture of water under a sky with a boat on it, as PNG bytes.
 * @param mood from 0 to 1; moves the colours and the horizon
 */
export function drawWater(width: number, height: number, mood: number): Buffer {
  const png = new PNG({ width, height });
  const horizon = Math.floor(height * (0.4 + 0.2 * mood));
  for (let y = 0; y < height; y++) {
    for (let x = 0; x < width; x++) {
      const at = (y * width + x) * 4;
      const [r, g, b] = y < horizon ? sky(y / horizon, mood) : water(x, y - horizon, mood);
      png.data[at] = r;
      png.data[at + 1] = g;
      png.data[at + 2] = b;
      png.data[at + 3] = 255;
    }
  }
  drawBoat(png, Math.floor(width * (0.3 + 0.4 * mood)), horizon + Math.floor(height * 0.18));
  return PNG.sync.write(png);
}

function sky(depth: number, mood: number): [number, number, number] {
  return [150 + 90 * depth * mood, 180 + 40 * depth, 225 - 50 * depth * mood];
}

function water(x: number, depth: number, mood: number): [number, number, number] {
  const ripple = 14 * Math.sin(x / (9 + depth / 6) + depth / 2);
  return [40 + 30 * mood + ripple, 90 + ripple - depth / 8, 110 - depth / 6 + ripple];
}

function drawBoat(png: PNG, centre: number, waterline: number): void {
  const half = Math.floor(png.width / 9);
  for (let dy = 0; dy < half / 5; dy++) {
    for (let dx = -half + dy * 2; dx <= half - dy * 2; dx++) {
      const at = ((waterline + dy) * png.width + centre + dx) * 4;
      png.data.set([92, 48, 30], at);
    }
  }
}

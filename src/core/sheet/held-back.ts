import { globPattern } from '../rewrite/terms/globs.js';
import type { Sheet } from './schema.js';

/** Whether the sheet wants an extension to be held back, by its name. */
export function holdsBack({ configure }: Sheet): (name: string) => boolean {
  const patterns = configure['switch-off'].map(globPattern);
  return name => patterns.some(pattern => pattern.test(name));
}

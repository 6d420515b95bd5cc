import { existsSync } from 'node:fs';

/** A name that nothing bears yet: the one wished for, or with a number. @param end what comes after the number */
export function freeName(name: string, end = ''): string {
  for (let n = 1; ; n++) {
    const one = n === 1 ? `${name}${end}` : `${name}-${n}${end}`;
    if (!existsSync(one)) return one;
  }
}

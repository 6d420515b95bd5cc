import { type Finding, finding } from '../../core/findings/findings.js';
import type { DatabaseEnd } from '../../ends/database/database-end.js';

/** What others on the way to a database could do. */
export function lineFindings({ line, text }: DatabaseEnd): Finding[] {
  if (line !== 'clear' && line !== 'unverified') return [];
  return [
    finding({
      level: 'warn',
      code: 'database-line-open',
      place: text,
      what:
        line === 'clear'
          ? 'The password and every row go to this server in the clear (?tls=off): whoever is on the way can read and change them'
          : 'Nobody verifies who this server is (?tls=unverified): whoever is on the way can pass for it',
      remedy:
        'Where the files are reached over sftp://, "through: files" goes over that connection; otherwise change the password of the database after the move',
    }),
  ];
}

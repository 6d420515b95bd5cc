import { isIP } from 'node:net';
import { formatAddress, parseAddress } from '../../core/address/address.js';
import { PorterError } from '../../core/errors.js';
import { dialectNames, usualDialect } from '../../core/redirects/dialects.js';
import type { AnswerTests } from './answer-checks.js';
import type { AnswerTest, Secrets, StartWish } from './answers.js';

/** One question of `start`, in the order in which a person knows the answers. */
export interface Question {
  readonly key: keyof StartWish;
  /** The flag that answers it, without its dashes. */
  readonly flag: string;
  readonly describe: string;
  /** As it is put to a person. */
  readonly ask: string;
  readonly kind: 'text' | 'list' | 'yes or no' | 'secret';
  /** The variable under which a secret is kept where nobody names another. */
  readonly variable?: string;
  readonly choices?: readonly string[];
  /** Whether it is to be asked, given the answers so far. */
  when?(wish: StartWish): boolean;
  /** Whether it must be answered. */
  must?(wish: StartWish): boolean;
  /** What is offered where nothing was found. */
  initial?(wish: StartWish): string | undefined;
  /** Why an answer cannot be; undefined where it can. */
  wrong?(answer: string): string | undefined;
  /** Tries the answer out; with `testsAnyway`, also where there is none. */
  test?(tests: AnswerTests, wish: StartWish, secrets: Secrets): Promise<AnswerTest>;
  readonly testsAnyway?: boolean;
}

/** What is asked of an account at a far host, and tested once it is known how to get in. */
function loginQuestions(end: 'old' | 'new'): Question[] {
  const files = end === 'old' ? 'oldFiles' : 'newFiles';
  return [
    {
      key: end === 'old' ? 'oldKey' : 'newKey',
      flag: `${end}-key`,
      describe: `A private key for the ${end} host, besides those that ssh would use`,
      ask: 'Which private key opens it, besides those that ssh would use?',
      kind: 'text',
      when: wish => /^sftp:/i.test(wish[files] ?? ''),
    },
    {
      key: end === 'old' ? 'oldFilesPassword' : 'newFilesPassword',
      flag: `${end}-files-password-variable`,
      describe: `The variable that holds the password at the ${end} host, in the environment or in .env`,
      ask: 'The password there, if one is needed (kept in .env, which only you can read)',
      kind: 'secret',
      variable: `${end.toUpperCase()}_FILES_PASSWORD`,
      when: wish => isFar(wish[files]),
      wrong: wrongVariable,
      test: (tests, wish, secrets) => tests[files](wish, secrets),
      testsAnyway: true,
    },
  ];
}

export const questions: readonly Question[] = [
  {
    key: 'old',
    flag: 'old',
    describe: 'The old address',
    ask: 'Where do visitors find the site now?',
    kind: 'text',
    must: () => true,
    wrong: wrongAddress,
    test: (tests, wish) => tests.address(wish, 'old'),
  },
  {
    key: 'oldReach',
    flag: 'old-reach',
    describe: 'Where the old site answers, if its address does not lead there',
    ask: 'Where does it answer, if not there?',
    kind: 'text',
    when: wish => wish.oldReach !== undefined,
    wrong: wrongAddress,
    test: (tests, wish) => tests.address(wish, 'old'),
  },
  {
    key: 'oldFiles',
    flag: 'old-files',
    describe: 'The old site’s folder, with its configuration',
    ask: 'In which folder do its files lie, here or as sftp://user@host/folder?',
    kind: 'text',
    test: (tests, wish, secrets) => tests.oldFiles(wish, secrets),
  },
  ...loginQuestions('old'),
  {
    key: 'oldDump',
    flag: 'old-dump',
    describe: 'A dump of its database, or "configuration" to take it from the server that the site uses',
    ask: 'Which file is the dump of its database ("configuration": take it from the server that the site uses)?',
    kind: 'text',
    must: wish => wish.oldFiles === undefined,
    test: (tests, wish) => tests.oldDump(wish),
  },
  {
    key: 'also',
    flag: 'also',
    describe: 'Another address it has been served under',
    ask: 'Which other addresses has it been served under?',
    kind: 'list',
    wrong: wrongAddress,
  },
  {
    key: 'new',
    flag: 'new',
    describe: 'The new address',
    ask: 'Where will they find it?',
    kind: 'text',
    must: () => true,
    wrong: wrongAddress,
  },
  {
    key: 'newReach',
    flag: 'new-reach',
    describe: 'Where the new site answers before the DNS leads there',
    ask: 'Where does the new host answer before the DNS leads there, such as http://198.51.100.20?',
    kind: 'text',
    wrong: wrongAddress,
    test: (tests, wish) => tests.address(wish, 'new'),
  },
  {
    key: 'newFiles',
    flag: 'new-files',
    describe: 'The folder of the new site',
    ask: 'In which folder shall its files lie, here or as sftp://user@host/folder?',
    kind: 'text',
    when: wish => wish.oldFiles !== undefined,
    must: wish => wish.oldFiles !== undefined,
    test: (tests, wish, secrets) => tests.newFiles(wish, secrets),
  },
  ...loginQuestions('new'),
  {
    key: 'newServer',
    flag: 'new-server',
    describe: 'mysql://user@host/name, for the new configuration',
    ask: 'The new database, as mysql://user@host/name',
    kind: 'text',
    wrong: answer =>
      /^mysql:\/\/[^/@]+@[^/]+\/.+/.test(answer) ? undefined : 'Write it as mysql://user@host/name',
  },
  {
    key: 'newPassword',
    flag: 'new-password-variable',
    describe: 'The variable that holds its password, in the environment or in .env',
    ask: 'Its password (kept in .env, which only you can read)',
    kind: 'secret',
    variable: 'NEW_DB_PASSWORD',
    when: wish => wish.newServer !== undefined,
    wrong: wrongVariable,
    test: (tests, wish, secrets) => tests.database(wish, secrets),
    testsAnyway: true,
  },
  {
    key: 'newDump',
    flag: 'new-dump',
    describe: 'Where the finished dump is left; without it, it is loaded at the new server',
    ask: 'Where is the finished dump to be left (empty: it is loaded at the new server)?',
    kind: 'text',
    when: wish => wish.oldDump !== undefined,
    must: wish => wish.oldDump !== undefined && wish.newServer === undefined,
    initial: wish => (wish.newServer === undefined ? 'finished.sql.gz' : undefined),
  },
  {
    key: 'newPrefix',
    flag: 'new-prefix',
    describe: 'A new table prefix',
    ask: 'A new table prefix',
    kind: 'text',
    wrong: answer => (/^\w*$/.test(answer) ? undefined : 'It may hold letters, digits and underscores only'),
  },
  {
    key: 'probe',
    flag: 'probe',
    describe: 'Let survey ask the new host’s PHP by a file that takes itself away',
    ask: 'May survey ask the new host’s PHP by a file that takes itself away?',
    kind: 'yes or no',
    when: wish => wish.newFiles !== undefined && wish.newReach !== undefined,
  },
  {
    key: 'searchEngines',
    flag: 'search-engines',
    describe: 'Whether search engines may find the new site',
    ask: 'May search engines find the new site?',
    kind: 'text',
    choices: ['keep', 'hide', 'show'],
    when: wish => wish.newFiles !== undefined,
    initial: () => 'keep',
  },
  {
    key: 'webServer',
    flag: 'web-server',
    describe: 'What the old host is served by',
    ask: 'What is the old host served by?',
    kind: 'text',
    choices: dialectNames,
    initial: () => usualDialect,
  },
  {
    key: 'oldRecord',
    flag: 'old-record',
    describe: 'The old host’s IP address',
    ask: 'The old host’s IP address, for the cutover',
    kind: 'text',
    wrong: wrongIp,
  },
  {
    key: 'newRecord',
    flag: 'new-record',
    describe: 'The new host’s IP address',
    ask: 'The new host’s IP address',
    kind: 'text',
    when: wish => wish.oldRecord !== undefined,
    must: wish => wish.oldRecord !== undefined,
    wrong: wrongIp,
  },
];

/** Whether a place is at a host that one must log in to. */
function isFar(place: string | undefined): boolean {
  return /^(?:sftp|ftps?):/i.test(place ?? '');
}

/** Whether an answer is tested only once it is known how to log in there. */
export function testsLater({ key }: Question, wish: StartWish): boolean {
  return (key === 'oldFiles' || key === 'newFiles') && isFar(wish[key]);
}

/** The variable that holds a secret: the one that was named, or the usual one. */
export function variableOf({ key, variable }: Question, wish: StartWish): string {
  return String(wish[key] ?? variable);
}

function wrongVariable(answer: string): string | undefined {
  return /^[A-Za-z_]\w*$/.test(answer) ? undefined : 'Name a variable, not the password itself';
}

function wrongAddress(answer: string): string | undefined {
  try {
    formatAddress(parseAddress(answer));
    return undefined;
  } catch (error) {
    return error instanceof PorterError ? `${error.details.cause}. ${error.details.remedy}` : String(error);
  }
}

function wrongIp(answer: string): string | undefined {
  return isIP(answer) === 0 ? 'Write an IP address, such as 192.0.2.10' : undefined;
}

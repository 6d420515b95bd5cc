import { isIP } from 'node:net';
import { formatAddress, parseAddress } from '../../core/address/address.js';
import { PorterError } from '../../core/errors.js';
import { isRemotePlace } from '../../core/files/place-url.js';
import { dialectNames, usualDialect } from '../../core/redirects/dialects/dialects.js';
import { sizePattern } from '../../core/text/sizes.js';
import type { AnswerTests } from './answer-checks.js';
import type { AnswerTest, Secrets, StartWish } from './answers.js';

/** One question of `start`, in the order in which a person knows the answers. */
export interface Question {
  readonly key: keyof StartWish;
  /** The flag that answers it, without its dashes. */
  readonly flag: string;
  readonly describe: string;
  /** As a person is asked. */
  readonly ask: string;
  /** What no answer means, where that is not simply none. */
  readonly none?: string;
  readonly kind: 'text' | 'list' | 'yes or no' | 'secret';
  /** The variable that holds a secret unless another one is named. */
  readonly variable?: string;
  readonly choices?: readonly string[];
  /** Whether to ask it, given the answers so far. */
  when?(wish: StartWish, tests?: AnswerTests): boolean;
  /** Whether it must be answered. */
  must?(wish: StartWish): boolean;
  /** The answer that is suggested where nothing was found. */
  initial?(wish: StartWish): string | boolean | undefined;
  /** Why an answer is not accepted; undefined where it is. */
  wrong?(answer: string): string | undefined;
  /** What is found to be offered as the answer when the question comes. */
  offer?(tests: AnswerTests, wish: StartWish): Promise<Partial<StartWish>>;
  /** Other answers on which the test depends. */
  readonly concerns?: readonly (keyof StartWish)[];
  /** Tests the answer; with `testsAnyway`, also an empty one. */
  test?(tests: AnswerTests, wish: StartWish, secrets: Secrets): Promise<AnswerTest>;
  readonly testsAnyway?: boolean;
}

/** The questions about an account at a remote host, tested once the login is known. */
function loginQuestions(end: 'old' | 'new'): Question[] {
  const files = end === 'old' ? 'oldFiles' : 'newFiles';
  return [
    {
      key: end === 'old' ? 'oldKey' : 'newKey',
      flag: `${end}-key`,
      describe: `A private key for the ${end} host, besides those that ssh uses`,
      ask: 'Which private key opens it, besides those that ssh uses?',
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
      when: wish => isRemotePlace(wish[files]),
      wrong: wrongVariable,
      concerns: [files, end === 'old' ? 'oldKey' : 'newKey'],
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
    describe: 'Where the old site answers, if not at its address',
    ask: 'Where does the old site answer, if not at that address?',
    kind: 'text',
    // Where the address itself answers as it should, that is where the site is.
    when: (wish, tests) => wish.oldReach !== undefined || (tests !== undefined && tests.oldAnswers !== true),
    wrong: wrongAddress,
    concerns: ['old'],
    test: (tests, wish) => tests.address(wish, 'old'),
  },
  {
    key: 'oldFiles',
    flag: 'old-files',
    describe: 'The old site’s folder, with its configuration',
    ask: 'Which folder holds its files, here or as sftp://user@host/folder?',
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
    concerns: ['oldFiles'],
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
    ask: 'Where will visitors find the site after the move?',
    kind: 'text',
    must: () => true,
    wrong: wrongAddress,
  },
  {
    key: 'newReach',
    flag: 'new-reach',
    describe: 'Where the new site answers before the DNS points to it',
    ask: 'Where does the new host answer before the DNS points to it, such as http://198.51.100.20?',
    kind: 'text',
    wrong: wrongAddress,
    concerns: ['new'],
    test: (tests, wish) => tests.address(wish, 'new'),
  },
  {
    key: 'newFiles',
    flag: 'new-files',
    describe: 'The folder of the new site',
    ask: 'Which folder will hold its files, here or as sftp://user@host/folder?',
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
    key: 'newThrough',
    flag: 'new-through-files',
    describe: 'Reach the new database over the SSH connection of the files or, over FTP, through a hatch',
    ask: 'Does only the new host itself reach that database (it is then reached over the SSH connection of the files or, over FTP, through a hatch)?',
    kind: 'yes or no',
    when: wish => wish.newServer !== undefined && /^(?:sftp|ftps?):/i.test(wish.newFiles ?? ''),
    initial: wish => /@(?:localhost|127\.|\[::1\])/.test(wish.newServer ?? ''),
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
    concerns: ['newServer', 'newThrough', 'newFiles', 'newFilesPassword'],
    test: (tests, wish, secrets) => tests.database(wish, secrets),
    testsAnyway: true,
  },
  {
    key: 'newDump',
    flag: 'new-dump',
    describe: 'Where the finished dump is written; without it, the dump is loaded into the new server',
    ask: 'Where should the finished dump be written?',
    none: 'to load it into the new server',
    kind: 'text',
    when: wish => wish.oldDump !== undefined,
    must: wish => wish.oldDump !== undefined && wish.newServer === undefined,
    initial: wish => (wish.newServer === undefined ? 'finished.sql.gz' : undefined),
  },
  {
    key: 'parts',
    flag: 'parts',
    describe: 'Cut the finished dump into pieces of this size, for a web panel with an upload limit',
    ask: 'How much does the web panel accept as one upload, such as 5 MiB (the dump is cut into pieces of that size)?',
    kind: 'text',
    when: wish => wish.newDump !== undefined,
    wrong: answer => (sizePattern.test(answer) ? undefined : 'Write a size, such as 5 MiB'),
  },
  {
    key: 'newPrefix',
    flag: 'new-prefix',
    describe: 'A new table prefix',
    ask: 'A new table prefix',
    kind: 'text',
    wrong: answer => (/^\w*$/.test(answer) ? undefined : 'Use only letters, digits and underscores'),
  },
  {
    key: 'probe',
    flag: 'probe',
    describe: 'Let survey run a PHP file at the new host that deletes itself afterwards',
    ask: 'May survey run a PHP file at the new host that deletes itself afterwards?',
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
    key: 'switchOff',
    flag: 'switch-off',
    describe: 'An extension to hold back until tidy, by a pattern of its name; repeatable',
    ask: 'Which extensions are to be held back until the move is done (caches, security, redirects), such as *cache*?',
    kind: 'list',
    when: wish => wish.newFiles !== undefined,
  },
  {
    key: 'webServer',
    flag: 'web-server',
    describe: 'The web server of the old host',
    ask: 'Which web server does the old host run?',
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
    offer: async (tests, wish) => ({ oldRecord: await tests.records(wish.old!) }),
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

/** Whether an answer is tested only once its login is known. */
export function testsLater({ key }: Question, wish: StartWish): boolean {
  return (key === 'oldFiles' || key === 'newFiles') && isRemotePlace(wish[key]);
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

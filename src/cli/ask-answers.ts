import { parseAddress } from '../core/address/address.js';
import { PorterError } from '../core/errors.js';
import type { StartWish } from '../steps/start.js';

/** Asks for what the flags left open, in the order in which a person knows the answers. */
export async function askForAnswers(wish: StartWish): Promise<StartWish> {
  const { confirm, input, select } = await import('@inquirer/prompts');
  const to = { output: process.stderr };
  const address = (text: string) => {
    try {
      parseAddress(text);
      return true;
    } catch (error) {
      return error instanceof PorterError ? `${error.told.cause}. ${error.told.remedy}` : String(error);
    }
  };
  const ask = async (
    given: string | undefined,
    message: string,
    check?: (text: string) => true | string,
    initial?: string,
  ) => given ?? (await input({ message, default: initial, validate: check ?? (() => true) }, to)).trim();
  const optional = async (given: string | undefined, message: string) =>
    (await ask(given, `${message} (empty for none)`)) || undefined;

  const old = await ask(wish.old, 'Where do visitors find the site now?', address);
  const oldFiles = await optional(wish.oldFiles, 'In which folder do its files lie?');
  const oldDump = await optional(wish.oldDump, 'Which file is the dump of its database?');
  const next = await ask(wish.new, 'Where shall they find it?', address);
  const newFiles = oldFiles
    ? await ask(wish.newFiles, 'In which folder shall its files lie?')
    : wish.newFiles;
  const newDump = oldDump
    ? await ask(wish.newDump, 'Where shall the finished dump be left?', undefined, 'finished.sql.gz')
    : wish.newDump;
  const newServer = await optional(wish.newServer, 'The new database, as mysql://user@host/name');
  const newPrefix = await optional(wish.newPrefix, 'A new table prefix');
  const webServer =
    wish.webServer ??
    (await select(
      { message: 'What is the old host served by?', choices: ['apache', 'nginx'].map(value => ({ value })) },
      to,
    ));
  const records =
    wish.newRecord !== undefined ||
    (await confirm({ message: 'Do you know both hosts’ IP addresses?', default: false }, to));
  const oldRecord = records ? await ask(wish.oldRecord, 'The old host’s IP address') : undefined;
  const newRecord = records ? await ask(wish.newRecord, 'The new host’s IP address') : undefined;
  return {
    ...wish,
    old,
    oldFiles,
    oldDump,
    new: next,
    newFiles,
    newDump,
    newServer,
    newPrefix,
    webServer,
    oldRecord,
    newRecord,
  };
}

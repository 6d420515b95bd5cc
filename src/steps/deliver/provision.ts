import { randomBytes } from 'node:crypto';
import { EndError } from '../../core/errors.js';
import type { DatabaseEnd } from '../../ends/database/database-end.js';
import { grantByHand, provisionByHand } from '../../ends/database/server/administrator.js';
import { writeSecret } from '../../ends/move-folder/secrets.js';
import {
  missingAbilities,
  newAdministratorOf,
  newDatabaseOf,
  newDatabasePlace,
  newServerOf,
} from '../move/databases.js';
import type { Move } from '../move/open.js';
import { noteDeed, type StepRun } from '../move/step.js';

/** Under which name a generated password is kept in `.env`. */
const secretName = 'NEW_DB_PASSWORD';

/**
 * Makes sure that the new database is there and that its user may do what a load needs. What is missing is made with
 * the administrator's credentials where the sheet gives them.
 * @returns what was made
 * @throws EndError where it is not there and cannot be made, with what to do by hand
 */
export async function provisionDatabase(run: StepRun): Promise<string[]> {
  const { move } = run;
  await ensurePassword(move);
  const database = newDatabaseOf(move);
  const place = newDatabasePlace(move);
  if (!database || !place) return [];
  const made: string[] = [];
  const opened = await abilitiesOf(move, database);
  if (opened instanceof EndError) {
    const refusal = opened;
    const administrator = newAdministratorOf(move);
    const maybeMissing = refusal.kind === 'credentials' || refusal.kind === 'no such database';
    if (!maybeMissing) throw refusal;
    if (!administrator) throw await withHelp(move, refusal);
    made.push(...(await administrator.provision(place)));
    await noteDeed(run, 'deliver', { kind: 'provisioned', database: database.id, made });
  }
  const all =
    opened instanceof EndError
      ? await database.use(connection => missingAbilities(move, connection))
      : opened;
  // Without it tables are replaced where they are.
  const missing = all.filter(ability => ability !== 'rename tables');
  if (missing.length === 0) return made;
  throw new EndError({
    doing: `Testing what a load needs in ${database.text}`,
    kind: 'permission',
    cause: `the user may not ${missing.join(', ')}`,
    remedy: `As the server's administrator: ${grantByHand(place, '%')}; or tick all rights for this user in the panel`,
  });
}

/** A password for a user that is to be made, where the sheet leaves it to us. It goes to `.env` and nowhere else. */
async function ensurePassword(move: Move): Promise<void> {
  const { database } = move.sheet.new;
  if (!database?.administrator || database.password !== undefined) return;
  const password = randomBytes(24).toString('base64url');
  await writeSecret(move.folder.at('.env'), secretName, password);
  database.password = password;
}

/** What the account may not do, or why the database cannot be opened. */
async function abilitiesOf(move: Move, database: DatabaseEnd): Promise<readonly string[] | EndError> {
  let isOpen = false;
  try {
    return await database.use(connection => {
      isOpen = true;
      return missingAbilities(move, connection);
    });
  } catch (error) {
    if (error instanceof EndError && !isOpen) return error;
    throw error;
  }
}

/** Databases that the user sees and whose names end as the one that is asked for: hosts put their own prefix before. */
async function alikeNames(move: Move): Promise<string[]> {
  const name = newDatabasePlace(move)?.name;
  try {
    const seen = (await newServerOf(move)?.use(connection => connection.databases())) ?? [];
    return seen.map(one => one.name).filter(one => one.endsWith(`_${name}`));
  } catch {
    return [];
  }
}

async function withHelp(move: Move, error: EndError): Promise<EndError> {
  const place = newDatabasePlace(move);
  const alike = await alikeNames(move);
  if (alike.length > 0) {
    const remedy = `This user sees ${alike.join(' and ')}: the host has put its prefix before the name. Write that name in new.database.server`;
    return new EndError({ ...error.details, remedy }, { cause: error });
  }
  const first =
    error.kind === 'credentials' ? 'Check user and password. Where they are not made yet: ' : 'Make it ';
  return new EndError(
    {
      ...error.details,
      remedy: `${first}in the host's panel (database, user, all rights; many hosts put their own prefix before both names), or as the server's administrator: ${place ? provisionByHand(place) : ''}`,
    },
    { cause: error },
  );
}

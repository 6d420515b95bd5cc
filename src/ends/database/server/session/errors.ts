import { EndError, PartWayError, PorterError } from '../../../../core/errors.js';
import type { RefusalKind } from '../../database-end.js';
import { askedInClear } from './line.js';

/** What a driver's or the server's error says. */
export interface ServerSaid {
  readonly code?: string;
  readonly errno?: number;
  readonly message: string;
  readonly sqlMessage?: string;
  readonly fatal?: boolean;
}

/** Whether an error means that the connection is no more, though the server may come back. */
export function isLost(error: unknown): boolean {
  const { code, message } = error as ServerSaid;
  if (
    /^(?:PROTOCOL_CONNECTION_LOST|ECONNRESET|EPIPE|ECONNREFUSED|ETIMEDOUT|ENOENT|ENOTCONN)$/.test(code ?? '')
  )
    return true;
  if (/^ER_(?:SERVER_SHUTDOWN|NORMAL_SHUTDOWN|CONNECTION_KILLED|NEW_ABORTING_CONNECTION)$/.test(code ?? ''))
    return true;
  return /closed state|Connection lost|has gone away|was killed/i.test(message ?? '');
}

function refusalKindOf({ code }: ServerSaid): RefusalKind {
  if (code === 'ER_ACCESS_DENIED_ERROR') return 'credentials';
  if (code === 'ER_BAD_DB_ERROR' || code === 'ER_DBACCESS_DENIED_ERROR') return 'no such database';
  const network =
    /^(?:ECONN|ETIMEDOUT|ENOTFOUND|ENOENT|EACCES|EHOST|ENET|EAI_|EPIPE|PROTOCOL_CONNECTION_LOST)/;
  return network.test(code ?? '') ? 'unreachable' : 'refused';
}

const remedies: Record<RefusalKind, string> = {
  unreachable:
    'Check host and port. Many hosts let only their own servers in: where the files are reached over sftp://, "through: files" leads there; where there is only FTP, "hatch: true" as well; otherwise use a dump',
  credentials: 'Check user and password: copy the password to .env as it is, in single quotes',
  'no such database':
    'Create it in the host’s panel and give the user all rights on it; many hosts put their own prefix before its name',
  refused: 'Look the message up in the server’s manual, or ask the host what it means',
};

const causes: Record<number, { cause: string; remedy: string }> = {
  1021: {
    cause: 'the disk of the database server is full',
    remedy: 'Make room there and run the command again; it resumes where it was',
  },
  1114: {
    cause: 'the table is full: the disk or quota of the database server is used up',
    remedy: 'Make room there and run the command again; it resumes where it was',
  },
  1030: {
    cause: 'the storage of the database server fails',
    remedy: 'Its disk may be full or a table damaged; run the command again when that is repaired',
  },
  1194: {
    cause: 'a table is marked as crashed',
    remedy: 'Repair it at its own host (REPAIR TABLE), then run the command again',
  },
  145: {
    cause: 'a table is marked as crashed',
    remedy: 'Repair it at its own host (REPAIR TABLE), then run the command again',
  },
  1142: { cause: 'the user lacks a right', remedy: 'Give the user all rights on the database' },
  1044: {
    cause: 'the user has no rights on the database',
    remedy: 'Give the user all rights on the database',
  },
};

/** What a driver or server said, as an error that says what was being done and what to try. */
export function toDatabaseError(error: unknown, doing: string): unknown {
  if (error instanceof PorterError) return error;
  const said = error as ServerSaid;
  if (lieOf(said)) return connectionError(error, doing);
  if (typeof said.code !== 'string') return error;
  const why = reasonOf(said);
  const known = causes[said.errno ?? 0];
  if (known) return new PartWayError({ doing, ...known, cause: `${known.cause} (${why})` }, { cause: error });
  if (!isLost(said)) return connectionError(error, doing);
  const remedy = 'Run the command again when the server answers; it resumes where it was';
  const cause = `the connection was lost (${why})`;
  return new PartWayError({ doing, kind: 'connection lost', cause, remedy }, { cause: error });
}

/** The same while there is no connection yet. */
const isOfLine = new RegExp(
  `^(?:HANDSHAKE_|${askedInClear}|ERR_TLS|ERR_SSL|CERT_|UNABLE_TO|DEPTH_ZERO|SELF_SIGNED)`,
);
const remedyOfLine =
  'Where the files are reached over sftp://, "through: files" leads there over SSH. Otherwise, if you know that it is the right server, write ?tls=unverified after the name of the database; ?tls=off lets everybody on the way read the password and every row';

function causeOfLine(said: ServerSaid): string {
  if (said.code === 'HANDSHAKE_NO_SSL_SUPPORT') return 'the server offers no TLS';
  return said.code === askedInClear
    ? said.message
    : `nobody vouches for the server’s certificate (${reasonOf(said)})`;
}

export function connectionError(error: unknown, doing: string): unknown {
  if (error instanceof PorterError) return error;
  const said = error as ServerSaid;
  const lie = lieOf(said);
  if (lie) return new EndError({ doing, kind: 'refused', ...lie }, { cause: error });
  if (typeof said.code !== 'string') return error;
  const kind = refusalKindOf(said);
  if (isOfLine.test(said.code))
    return new EndError(
      { doing, kind: 'refused', cause: causeOfLine(said), remedy: remedyOfLine },
      { cause: error },
    );
  return new EndError({ doing, kind, cause: reasonOf(said), remedy: remedies[kind] }, { cause: error });
}

/** What no server that keeps to the protocol makes the driver say. */
function lieOf({ code, message }: ServerSaid): { cause: string; remedy: string } | undefined {
  if (/LOCAL INFILE/.test(message ?? ''))
    return {
      cause: 'the server asks for a file of this machine, which was not sent',
      remedy: 'Do not trust this server: no statement of a move needs that',
    };
  // An error of the language in which the driver is written, not of the server.
  if (/^ERR_(?:OUT_OF_RANGE|INVALID_ARG|BUFFER)/.test(code ?? ''))
    return {
      cause: 'what answers there does not speak the database’s protocol',
      remedy: 'Check host and port',
    };
  return undefined;
}

/** What a server said, as text: statements are bytes to the driver, and so is what the server quotes of them. */
function reasonOf({ sqlMessage, message, code }: ServerSaid): string {
  return shownMessage(sqlMessage ?? message ?? '') || (code ?? '');
}

/** A server's message without control characters, and not without end. */
function shownMessage(message: string): string {
  return message.replace(/[\x00-\x1f\x7f]+/g, ' ').slice(0, 300);
}

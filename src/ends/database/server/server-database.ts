import { databaseIdentity, type Line, lineTo, shownDatabase } from '../../../core/database/place.js';
import type { DatabaseConnection, DatabaseEnd, DatabaseSnapshot, SnapshotOptions } from '../database-end.js';
import { ServerConnection } from './connection.js';
import { isLost, toDatabaseError } from './session/errors.js';
import type { KeptSessions } from './session/kept-sessions.js';
import type { DatabaseRoute } from './session/session.js';
import { withDatabase } from './session/with-database.js';
import { Snapshot } from './snapshot.js';

/** A database at a server that is reached over the network, or through the SSH account of an end's files. */
export class ServerDatabase implements DatabaseEnd {
  private readonly route: DatabaseRoute;
  private readonly kept: KeptSessions | undefined;

  /** @param kept sessions that others have opened, and that others may use afterwards */
  constructor(route: DatabaseRoute, kept?: KeptSessions) {
    this.route = route;
    this.kept = kept;
  }

  get name(): string {
    return this.route.place.name;
  }

  get text(): string {
    return shownDatabase(this.route.place);
  }

  get line(): Line {
    return lineTo(this.route.place, this.route.through !== undefined);
  }

  get id(): string {
    return databaseIdentity(this.route.place);
  }

  use<T>(work: (connection: DatabaseConnection) => Promise<T>): Promise<T> {
    const own = () => this.kept?.numbersOf(this.route) ?? [];
    return withDatabase(this.route, session => work(new ServerConnection(session, own)), this.kept);
  }

  snapshot(options: SnapshotOptions): Promise<DatabaseSnapshot> {
    return Snapshot.open(this.route, options, this.kept);
  }

  toPorterError(error: unknown, doing: string): unknown {
    return toDatabaseError(error, doing);
  }

  isLost(error: unknown): boolean {
    return isLost((error as Error).cause ?? error);
  }
}

import { databaseIdentity, type Line, lineTo, shownDatabase } from '../../../core/database/place.js';
import type { DatabaseConnection, DatabaseEnd, DatabaseSnapshot, SnapshotOptions } from '../database-end.js';
import { ServerConnection } from './connection.js';
import { isLost, toDatabaseError } from './session/errors.js';
import { type DatabaseRoute, withDatabase } from './session/session.js';
import { Snapshot } from './snapshot.js';

/** A database at a server that is reached over the network, or through the SSH account of an end's files. */
export class ServerDatabase implements DatabaseEnd {
  private readonly route: DatabaseRoute;

  constructor(route: DatabaseRoute) {
    this.route = route;
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
    return withDatabase(this.route, session => work(new ServerConnection(session)));
  }

  snapshot(options: SnapshotOptions): Promise<DatabaseSnapshot> {
    return Snapshot.open(this.route, options);
  }

  toPorterError(error: unknown, doing: string): unknown {
    return toDatabaseError(error, doing);
  }

  isLost(error: unknown): boolean {
    return isLost((error as Error).cause ?? error);
  }
}

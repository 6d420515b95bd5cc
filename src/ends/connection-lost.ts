/** A transfer that was under way when its connection was lost, and that can be begun anew. */
export class ConnectionLost extends Error {}

/** A transfer that was under way when its connection was lost, and that can be begun again. */
export class ConnectionLost extends Error {}

/** The host lets no more channels be open at once on a connection. */
export class ChannelRefused extends Error {}

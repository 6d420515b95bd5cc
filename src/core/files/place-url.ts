/** A place for files at another host, as a person writes it: `protocol://user@host:port/path`. */
export interface PlaceUrl {
  /** In lower case. */
  readonly scheme: string;
  /** `user:password@host:port`, as it is written. */
  readonly authority: string;
  /** With its leading slash, still percent-encoded; undefined where the URL names none. */
  readonly path: string | undefined;
}

/** The parts of a place's URL (RFC 3986, section 3); undefined for a folder on this machine. */
export function parsePlaceUrl(place: string): PlaceUrl | undefined {
  const [, scheme, authority, path] = /^([a-z][a-z0-9+.-]+):\/\/([^/]*)(\/.*)?$/is.exec(place) ?? [];
  if (scheme === undefined || scheme.toLowerCase() === 'file') return undefined;
  return { scheme: scheme.toLowerCase(), authority: authority ?? '', path };
}

/** Whether a place is at another host. */
export function isRemotePlace(place: string | undefined): boolean {
  return place !== undefined && parsePlaceUrl(place) !== undefined;
}

/** A place's URL without user and password, for messages. */
export function withoutCredentials(place: string): string {
  return place.replace(/\/\/[^@/]*@/, '//');
}

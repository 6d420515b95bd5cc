/** How fast files may be carried. */
export interface RateLimit {
  /** How many files are carried at once at most. */
  readonly atOnce: number;
  readonly streams: number;
  /** Comes back when so many more bytes may pass. */
  take(bytes: number): Promise<void>;
}

export const unlimitedRate: RateLimit = {
  atOnce: Number.POSITIVE_INFINITY,
  streams: Number.POSITIVE_INFINITY,
  take: async () => {},
};

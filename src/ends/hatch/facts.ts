/** What a hatch says of its host. */
export interface HatchFacts {
  /** The version of PHP. */
  readonly php: string;
  readonly server: string;
  /** How PHP is run: `fpm-fcgi`, `apache2handler`, … */
  readonly sapi: string;
  readonly extensions: readonly string[];
  /** Settings of PHP by name, as they are written there. */
  readonly limits: Readonly<Record<string, string>>;
  /** Bytes for which there is room, where PHP may say so. */
  readonly room: number | undefined;
  /** Whether what PHP writes belongs to whom the site's folder belongs to. */
  readonly writesAsOwner: boolean;
  /** Whether it can pack what it sends. */
  readonly packs: boolean;
}

export function readFacts(result: Readonly<Record<string, unknown>>): HatchFacts {
  const { php, server, sapi, extensions, limits, room, owner, rootOwner } = result;
  const list = extensions as string[];
  return {
    php: String(php),
    server: String(server),
    sapi: String(sapi),
    extensions: list,
    limits: limits as Record<string, string>,
    room: typeof room === 'number' ? room : undefined,
    writesAsOwner: owner !== null && owner === rootOwner,
    packs: list.includes('zlib'),
  };
}

/** What the language at a host said of itself through a probe. */
export interface SeenLanguage {
  readonly version: string;
  /** In lower case. */
  readonly extensions: readonly string[];
  /** Bytes; undefined where there is no limit. */
  readonly memory: number | undefined;
  readonly upload: number | undefined;
  readonly post: number | undefined;
  /** Seconds; 0 where there is no limit. */
  readonly time: number;
  /** The server's clock, in seconds since 1970. */
  readonly now: number;
  /** The folder in which the probe lay, as the server sees it. */
  readonly folder: string;
  /** Bytes that are free there, where the host shows. */
  readonly free: number | undefined;
}

/**
 * A PHP file that reports on the PHP of a web server, once: it removes itself when it was asked, answers only
 * to who knows the token.
 * @param token letters and digits
 */
export function probeSource(token: string): string {
  return `<?php
// Written by a site move to ask this server about itself. It takes itself away.
@unlink(__FILE__);
if (!hash_equals('${token}', $_SERVER['HTTP_X_PROBE_TOKEN'] ?? '')) { http_response_code(404); exit; }
header('content-type: application/json');
echo json_encode(array('probe' => 1, 'version' => PHP_VERSION, 'extensions' => get_loaded_extensions(),
  'memory' => ini_get('memory_limit'), 'upload' => ini_get('upload_max_filesize'), 'post' => ini_get('post_max_size'),
  'time' => ini_get('max_execution_time'), 'now' => time(), 'folder' => __DIR__, 'free' => @disk_free_space(__DIR__)));
`;
}

/**
 * Reads a probe's answer.
 * @returns undefined when it is none; `source` when the server showed the file instead of running it
 */
export function readProbe(body: string): SeenLanguage | 'source' | undefined {
  if (body.includes('<?php') && body.includes('hash_equals')) return 'source';
  let said: Record<string, unknown>;
  try {
    said = JSON.parse(body) as Record<string, unknown>;
  } catch {
    return undefined;
  }
  if (said?.probe !== 1) return undefined;
  const extensions = Array.isArray(said.extensions)
    ? said.extensions.map(one => String(one).toLowerCase())
    : [];
  return {
    version: String(said.version),
    extensions,
    memory: sizeOf(said.memory),
    upload: sizeOf(said.upload),
    post: sizeOf(said.post),
    time: Number(said.time) || 0,
    now: Number(said.now),
    folder: String(said.folder),
    free: typeof said.free === 'number' ? said.free : undefined,
  };
}

/** A size as php.ini writes it: `128M`, `1G`, `-1` for none. https://www.php.net/manual/en/faq.using.php#faq.using.shorthandbytes */
function sizeOf(written: unknown): number | undefined {
  const [, digits, unit] = /^\s*(-?\d+)\s*([kmg]?)/i.exec(String(written)) ?? [];
  const n = Number(digits ?? 0);
  if (n <= 0) return undefined;
  return n * { '': 1, k: 1024, m: 1024 ** 2, g: 1024 ** 3 }[unit!.toLowerCase() as '' | 'k' | 'm' | 'g'];
}

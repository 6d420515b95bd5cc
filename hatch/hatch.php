<?php
/*
 * A hatch of Able Porter: lets the person who put it here move this site, and nobody else do anything.
 *
 * Every request is signed; the key that signs is not here. Whatever is not signed gets the page that this site shows for
 * an address that does not exist. It ends itself after the time below. If you find it and do not know why it is here,
 * delete it: nothing of your site needs it.
 *
 *   request = signature (base64) LF head (JSON) LF body
 *   head    = { hatch, n, time, sum: SHA-256 of body, packed, sealed }
 *   body    = arguments (JSON) LF data, packed (raw DEFLATE) and sealed (AES-256-GCM: nonce, tag, text) where the head says so
 *   reply   = data, result (JSON), its length (32 bits, big-endian), then HMAC-SHA256 of all that with a key for this request
 */
namespace Hatch;

const SETTINGS = [/* written by the tool */];

const CLOCK = 300;         // Seconds by which a request may be older or newer than now.
const WRONG = 50;          // Wrong signatures after which it closes.
const WINDOW = 8192;       // Numbers of requests that are remembered, for each is answered once.
const HEAD = 4096;         // Bytes of a signature and a head at most.
const LARGEST = 33554432;  // Bytes of a request at most.
const PIECE = 262144;      // Bytes that are read at a time.

/** A refusal, with a word for its kind that the tool knows. */
class Refusal extends \Exception {
    public $kind;
    function __construct($kind, $why) { parent::__construct($why); $this->kind = $kind; }
}

// What the server's settings would do to the answer is switched off; an error ends the request and is not shown.
define(__NAMESPACE__ . '\COMPRESSED', (string) ini_get('zlib.output_compression'));
@ini_set('display_errors', '0');
@ini_set('zlib.output_compression', '0');
@ini_set('default_charset', '');
while (ob_get_level() > 0 && @ob_end_clean()) { }
if (function_exists('apache_setenv')) @apache_setenv('no-gzip', '1');
ignore_user_abort(false);
umask(022);
set_error_handler(function ($level, $text) {
    if (error_reporting() & $level) throw new Refusal('failed', $text);
    return true;
});
date_default_timezone_set('UTC');
main();

function main() {
    $began = microtime(true);
    $state = new State();
    if (time() >= SETTINGS['ends']) { $state->close(); refuse(); }
    $body = '';
    $head = signed($body, $state);
    if ($head === null) refuse();
    header('Content-Type: application/octet-stream');
    header('Cache-Control: no-store, no-transform');
    header('X-Robots-Tag: noindex');
    $reply = new Reply($head, $began);
    try {
        $data = '';
        $ask = opened($head, $body, $data);
        $body = '';
        $reply->budget($ask);
        $acts = ['facts' => 'facts', 'list' => 'listing', 'look' => 'look', 'sums' => 'sums', 'read' => 'reading',
            'tar' => 'packing', 'untar' => 'unpacking', 'write' => 'writing', 'change' => 'changing', 'sql' => 'statements',
            'fetch' => 'fetching', 'end' => 'ending'];
        if (!isset($acts[$ask['do']])) throw new Refusal('unknown', 'there is nothing of this name here');
        $result = call_user_func(__NAMESPACE__ . '\\' . $acts[$ask['do']], $ask, $data, $reply, $state);
        $reply->finish($result);
    } catch (\Throwable $error) {
        $kind = $error instanceof Refusal ? $error->kind : 'failed';
        $reply->finish(['error' => $kind, 'why' => text($error->getMessage())]);
    }
}

// ---- Who may ask

/** Answers as this site does for an address that does not exist. */
function refuse() {
    list($status, $type, $page) = SETTINGS['unknown'];
    http_response_code($status);
    header('Content-Type: ' . $type);
    echo base64_decode($page);
    exit;
}

/** The head of a request that is signed, in time, whole and new; null for any other, whatever is wrong with it. */
function signed(&$body, State $state) {
    if (($_SERVER['REQUEST_METHOD'] ?? '') !== 'POST' || ($_SERVER['CONTENT_LENGTH'] ?? '0') > LARGEST) return null;
    $input = fopen('php://input', 'rb');
    $lines = (string) stream_get_contents($input, HEAD);
    $one = strpos($lines, "\n");
    $two = $one === false ? false : strpos($lines, "\n", $one + 1);
    $signature = $two === false ? '' : (string) base64_decode(substr($lines, 0, $one), true);
    $line = $two === false ? '' : substr($lines, $one + 1, $two - $one - 1);
    // A signature is verified in any case, so that every refusal takes as long.
    $good = verified($line, $signature);
    if ($two === false) return null;
    if (!$good) { $state->wrong(); return null; }
    $head = json_decode($line, true);
    if (!is_array($head) || ($head['hatch'] ?? '') !== SETTINGS['id'] || !is_int($head['n'] ?? null)) return null;
    if (abs(microtime(true) - ($head['time'] ?? 0)) > CLOCK) return null;
    $body = substr($lines, $two + 1) . stream_get_contents($input, LARGEST);
    if (!hash_equals(hash('sha256', $body), (string) ($head['sum'] ?? ''))) return null;
    return $state->isNew($head['n']) ? $head : null;
}

function verified($text, $signature) {
    $key = base64_decode(SETTINGS['key']);
    if (SETTINGS['algorithm'] === 'ed25519') {
        if (strlen($signature) !== 64) $signature = str_repeat("\0", 64);
        return sodium_crypto_sign_verify_detached($signature, $text, $key);
    }
    $pem = "-----BEGIN PUBLIC KEY-----\n" . chunk_split(base64_encode($key), 64, "\n") . "-----END PUBLIC KEY-----\n";
    return openssl_verify($text, $signature, $pem, OPENSSL_ALGO_SHA256) === 1;
}

/** The key that this hatch and its owner share: in the file beside or above the web root, or here. */
function secret() {
    static $key = null;
    if ($key === null) $key = base64_decode(SETTINGS['secret-file'] === ''
        ? SETTINGS['secret'] : (string) file_get_contents(__DIR__ . '/' . SETTINGS['secret-file']));
    if (strlen($key) !== 32) throw new Refusal('failed', 'the secret of this hatch cannot be read');
    return $key;
}

/** The arguments of a request, and its data. */
function opened($head, $body, &$data) {
    if (!empty($head['sealed'])) {
        $body = openssl_decrypt(substr($body, 28), 'aes-256-gcm', hash_hmac('sha256', "ask {$head['n']}", secret(), true),
            OPENSSL_RAW_DATA, substr($body, 0, 12), substr($body, 12, 16));
        if ($body === false) throw new Refusal('damaged', 'the body cannot be opened');
    } elseif (SETTINGS['sealed']) throw new Refusal('damaged', 'the body is not sealed');
    if (!empty($head['packed'])) $body = gzinflate($body, LARGEST);
    $end = strpos($body, "\n");
    $ask = json_decode(substr($body, 0, $end), true);
    if (!is_array($ask) || !is_string($ask['do'] ?? null)) throw new Refusal('damaged', 'the arguments cannot be read');
    $data = (string) substr($body, $end + 1);
    return $ask;
}

/** What is kept between requests: which were answered, and how many were wrong. It lies beside the hatch or in a temporary folder. */
class State {
    private $file = null;

    function __construct() {
        $name = '.' . basename(__FILE__, '.php') . '.state';
        foreach ([__DIR__, sys_get_temp_dir()] as $folder) {
            $this->file = @fopen("$folder/$name", 'c+b');
            if ($this->file) break;
        }
        clearstatcache();
        // Somebody else has just closed it.
        if ($this->file && !file_exists(__FILE__)) $this->close();
        if (!$this->file || !file_exists(__FILE__)) refuse();
        @chmod(stream_get_meta_data($this->file)['uri'], 0600);
    }

    /** Whether a number comes for the first time. Numbers grow; those before the window are refused. */
    function isNew($number) {
        return $this->change(function ($seen) use ($number) {
            $seen += ['top' => 0, 'bits' => '', 'wrong' => 0];
            $bits = str_pad((string) base64_decode($seen['bits']), WINDOW / 8, "\0");
            if ($number <= $seen['top'] - WINDOW || $number < 1) return [$seen, false];
            // Numbers between the last and this one were not answered yet.
            for ($i = max($seen['top'] + 1, $number - WINDOW + 1); $i <= $number; $i++) put_bit($bits, $i % WINDOW, false);
            if ($number <= $seen['top'] && get_bit($bits, $number % WINDOW)) return [$seen, false];
            put_bit($bits, $number % WINDOW, true);
            return [['top' => max($seen['top'], $number), 'bits' => base64_encode($bits)] + $seen, true];
        });
    }

    function wrong() {
        $count = $this->change(function ($seen) {
            $seen['wrong'] = ($seen['wrong'] ?? 0) + 1;
            return [$seen, $seen['wrong']];
        });
        if ($count >= WRONG) $this->close();
    }

    /** Holds the hatch to the first database that it opens. */
    function boundTo($database) {
        return $this->change(function ($seen) use ($database) {
            $seen['database'] = $seen['database'] ?? $database;
            return [$seen, $seen['database'] === $database];
        });
    }

    /** Removes all that belongs to the hatch. */
    function close() {
        @unlink(__FILE__);
        if (SETTINGS['secret-file'] !== '') @unlink(__DIR__ . '/' . SETTINGS['secret-file']);
        @unlink(stream_get_meta_data($this->file)['uri']);
        return !file_exists(__FILE__);
    }

    private function change($work) {
        flock($this->file, LOCK_EX);
        rewind($this->file);
        list($seen, $result) = $work(json_decode((string) stream_get_contents($this->file), true) ?: []);
        rewind($this->file);
        ftruncate($this->file, 0);
        fwrite($this->file, json_encode($seen));
        fflush($this->file);
        flock($this->file, LOCK_UN);
        return $result;
    }
}

function get_bit($bits, $i) { return (ord($bits[$i >> 3]) >> ($i & 7)) & 1; }
function put_bit(&$bits, $i, $on) {
    $byte = ord($bits[$i >> 3]);
    $bits[$i >> 3] = chr($on ? $byte | (1 << ($i & 7)) : $byte & ~(1 << ($i & 7)));
}

/** What is answered: data as it comes, then the result and the digest of all. */
class Reply {
    private $head, $until, $most, $hash, $pack = null, $sealed = '', $sent = 0;

    function __construct($head, $began) {
        $this->head = $head;
        $this->until = $began + 2;
        $this->most = 1 << 22;
        $this->hash = hash_init('sha256', HASH_HMAC, hash_hmac('sha256', "reply {$head['n']}", secret(), true));
    }

    /** How long and how much this request may work, in seconds and bytes. */
    function budget($ask) {
        $this->until += ($ask['seconds'] ?? 2) - 2;
        $this->most = min($ask['bytes'] ?? $this->most, 1 << 24);
        if (!empty($ask['pack']) && function_exists('deflate_init')) $this->pack = deflate_init(ZLIB_ENCODING_RAW, ['level' => 2]);
    }

    /** Whether the slice ends here. @param $more bytes that are to come */
    function isFull($more = 0) { return microtime(true) > $this->until || ($this->sent > 0 && $this->sent + $more > $this->most); }
    function isLate() { return microtime(true) > $this->until; }
    function left() { return max(0, $this->most - $this->sent); }

    function data($bytes) {
        $this->sent += strlen($bytes);
        $this->out($this->pack ? deflate_add($this->pack, $bytes, ZLIB_NO_FLUSH) : $bytes);
    }

    function finish($result) {
        if ($this->pack) $this->out(deflate_add($this->pack, '', ZLIB_FINISH));
        $json = json_encode(($result ?: []) + ['packed' => $this->pack !== null], JSON_UNESCAPED_SLASHES | JSON_PARTIAL_OUTPUT_ON_ERROR);
        $this->out($json . pack('N', strlen($json)));
        if (SETTINGS['sealed']) {
            $nonce = random_bytes(12);
            $text = openssl_encrypt($this->sealed, 'aes-256-gcm', hash_hmac('sha256', "seal {$this->head['n']}", secret(), true),
                OPENSSL_RAW_DATA, $nonce, $tag);
            hash_update($this->hash, $nonce . $tag . $text);
            echo $nonce, $tag, $text;
        }
        echo hash_final($this->hash, true);
    }

    private function out($bytes) {
        if (SETTINGS['sealed']) { $this->sealed .= $bytes; return; }
        hash_update($this->hash, $bytes);
        echo $bytes;
    }
}

// ---- Paths: relative to the folder in which this file lies, and never out of it

function root() { static $root = null; if ($root === null) $root = rtrim(realpath(__DIR__), '/'); return $root; }

/** The whole path of something below the root, with every link on the way to it resolved. */
function at($path) {
    $parts = explode('/', $path);
    if ($path === '' || strpos($path, "\0") !== false || array_intersect(['', '.', '..'], $parts))
        throw new Refusal('path', 'the path leads out of the site');
    if (isOwn($path)) throw new Refusal('path', 'this is the hatch itself');
    $full = root() . '/' . $path;
    for ($above = dirname($full); ($real = realpath($above)) === false && strlen($above) > strlen(root()); ) $above = dirname($above);
    if ($real !== root() && strpos("$real/", root() . '/') !== 0) throw new Refusal('path', 'the path leads out of the site');
    return $full;
}

/** Whether a path is one of the hatch's own files. */
function isOwn($path) {
    $name = basename(__FILE__, '.php');
    return in_array($path, ["$name.php", ".$name.state", SETTINGS['secret-file']], true);
}

/** Opens a file that is a file itself, and the one that was looked at. */
function openFile($path, $mode) {
    $full = at($path);
    $before = @lstat($full);
    if ($before === false || ($before['mode'] & 0170000) !== 0100000) throw new Refusal('missing', 'it is no file');
    $file = @fopen($full, $mode);
    if (!$file) throw new Refusal('denied', 'it may not be opened');
    requireSame($file, $full);
    return $file;
}

/** Refuses a file that is open and is not the one at its path inside of the site: somebody exchanged a folder for a link meanwhile. */
function requireSame($file, $full) {
    $open = fstat($file);
    for ($i = 0; $i < 5; $i++) {
        clearstatcache(true);
        $above = realpath(dirname($full)) . '/';
        $there = @lstat($full);
        if (strpos($above, root() . '/') !== 0 || !$there || $there['ino'] !== $open['ino'] || $there['dev'] !== $open['dev'])
            throw new Refusal('path', 'it was exchanged meanwhile');
    }
}

/** An entry as a line of the listing: kind, mode, size, time, name and target, each ended by a zero byte. */
function entry($full, $name) {
    $stat = @lstat($full);
    if ($stat === false) return "-\0\0\0\0$name\0\0";
    $kinds = [0100000 => 'f', 0040000 => 'd', 0120000 => 'l'];
    $kind = $kinds[$stat['mode'] & 0170000] ?? 's';
    $target = $kind === 'l' ? (string) @readlink($full) : '';
    return implode("\0", [$kind, $stat['mode'] & 07777, $stat['size'], $stat['mtime'], $name, $target]) . "\0";
}

function names($data) { return $data === '' ? [] : explode("\0", $data); }

// ---- Files

function facts($ask, $data, $reply, $state) {
    $limits = [];
    foreach (['memory_limit', 'max_execution_time', 'post_max_size', 'upload_max_filesize', 'open_basedir', 'disable_functions',
        'output_buffering', 'auto_prepend_file'] as $name) $limits[$name] = (string) ini_get($name);
    $limits['zlib.output_compression'] = COMPRESSED;
    $try = root() . '/.' . basename(__FILE__, '.php') . '.try';
    $owner = @file_put_contents($try, 'x') === 1 ? fileowner($try) : null;
    @unlink($try);
    return ['php' => PHP_VERSION, 'server' => text($_SERVER['SERVER_SOFTWARE'] ?? ''), 'sapi' => PHP_SAPI,
        'extensions' => array_values(array_filter(['sodium', 'openssl', 'mysqli', 'pdo_mysql', 'zlib', 'hash'], 'extension_loaded')),
        'limits' => $limits, 'room' => function_exists('disk_free_space') ? @disk_free_space(root()) : null,
        'owner' => $owner, 'rootOwner' => fileowner(root())];
}

/** Lists folders and those below them. @param $data folders to list; @param $ask['skip'] entries of the first that were listed */
function listing($ask, $data, $reply) {
    $folders = names($data);
    $skip = $ask['skip'] ?? 0;
    if (!empty($ask['first']) && $data !== '.' && !is_dir(at($data))) throw new Refusal('missing', 'it is no folder');
    while ($folders && !$reply->isFull()) {
        $folder = array_shift($folders);
        $full = $folder === '.' ? root() : at($folder);
        $found = is_dir($full) && !is_link($full) ? @scandir($full) : [];
        if ($found === false) throw new Refusal('denied', "the folder $folder may not be listed");
        $found = array_values(array_diff($found, ['.', '..']));
        $reply->data("D\0$folder\0");
        for ($i = $skip, $skip = 0; $i < count($found); $i++) {
            if ($reply->isFull(200)) { array_unshift($folders, $folder); $skip = $i; break 2; }
            $path = $folder === '.' ? $found[$i] : "$folder/{$found[$i]}";
            if (isOwn($path)) continue;
            $line = entry("$full/{$found[$i]}", $found[$i]);
            $reply->data($line);
            if ($line[0] === 'd') $folders[] = $path;
        }
    }
    $reply->data("E\0" . implode("\0", $folders));
    return ['skip' => $skip];
}

function look($ask, $data, $reply) {
    foreach (names($data) as $path) $reply->data(entry($path === '.' ? root() : at($path), $path));
}

/** SHA-256 of files until the slice ends; of a long one the state, where PHP can write that down. */
function sums($ask, $data, $reply) {
    $done = [];
    $context = isset($ask['state']) ? unserialize(base64_decode($ask['state']), ['allowed_classes' => ['HashContext']]) : null;
    $from = $ask['from'] ?? 0;
    foreach (names($data) as $path) {
        if ($done && $reply->isLate()) break;
        try { $file = openFile($path, 'rb'); } catch (Refusal $refusal) { $done[] = ''; continue; }
        $hash = $context ?: hash_init('sha256');
        fseek($file, $from);
        while (($bytes = (string) fread($file, PIECE)) !== '') {
            hash_update($hash, $bytes);
            $from += strlen($bytes);
            if (PHP_VERSION_ID >= 80100 && $reply->isLate())
                return ['sums' => $done, 'from' => $from, 'state' => base64_encode(serialize($hash))];
        }
        $done[] = hash_final($hash);
        list($context, $from) = [null, 0];
    }
    return ['sums' => $done];
}

function reading($ask, $data, $reply) {
    $file = openFile($data, 'rb');
    $size = fstat($file)['size'];
    fseek($file, $ask['from']);
    $most = min($ask['most'], $reply->left());
    for ($count = 0; $count < $most && !$reply->isLate(); $count += strlen($bytes)) {
        $bytes = (string) fread($file, min(PIECE, $most - $count));
        if ($bytes === '') break;
        $reply->data($bytes);
    }
    return ['size' => $size];
}

/** Several whole files as a POSIX tar, until the slice ends. */
function packing($ask, $data, $reply) {
    $done = 0;
    $missing = [];
    foreach (names($data) as $i => $path) {
        try { $file = openFile($path, 'rb'); } catch (Refusal $refusal) { $missing[] = $i; $done++; continue; }
        $stat = fstat($file);
        // One that is too long for a slice is read in ranges.
        if ($stat['size'] > $ask['most']) { $missing[] = $i; $done++; continue; }
        if ($reply->isFull($stat['size'] + 1536)) break;
        $reply->data(tarHead($path, $stat['size'], $stat['mode'] & 07777, $stat['mtime']));
        for ($left = $stat['size']; $left > 0; $left -= strlen($bytes)) {
            $bytes = (string) fread($file, min(PIECE, $left));
            if ($bytes === '') throw new Refusal('changed', 'a file became shorter while it was read');
            $reply->data($bytes);
        }
        $reply->data(str_repeat("\0", -$stat['size'] & 511));
        $done++;
    }
    $reply->data(str_repeat("\0", 1024));
    return ['done' => $done, 'missing' => $missing];
}

/** The head of a file in a tar (IEEE Std 1003.1, ustar), with a pax head before it for a long name. */
function tarHead($path, $size, $mode, $mtime, $kind = '0') {
    $before = '';
    if (strlen($path) > 100) {
        $record = ' path=' . $path . "\n";
        for ($length = strlen($record); strlen($length . $record) !== $length; ) $length = strlen($length . $record);
        $record = $length . $record;
        $before = tarHead('pax', strlen($record), 0644, $mtime, 'x') . $record . str_repeat("\0", -strlen($record) & 511);
    }
    $head = pack('a100a8a8a8a12a12a8a1a100a6a2a32a32a8a8a155a12', substr($path, 0, 100), sprintf('%07o', $mode), '0000000', '0000000',
        sprintf('%011o', $size), sprintf('%011o', max(0, $mtime)), '        ', $kind, '', 'ustar', '00', '', '', '0000000', '0000000', '', '');
    return $before . substr_replace($head, sprintf("%06o\0 ", array_sum(unpack('C*', $head))), 148, 8);
}

/** Takes what a tar holds: files and folders, the folders above each made where they are missing. */
function unpacking($ask, $data, $reply) {
    $count = 0;
    $name = null;
    for ($at = 0; $at + 512 <= strlen($data); ) {
        $head = substr($data, $at, 512);
        if (trim($head, "\0") === '') break;
        $size = octdec(trim(substr($head, 124, 12), " \0"));
        $content = substr($data, $at + 512, $size);
        if (strlen($content) !== $size) throw new Refusal('damaged', 'the archive ends in the middle of a file');
        $at += 512 + $size + (-$size & 511);
        if ($head[156] === 'x') { $name = longName($content); continue; }
        $path = base64_decode($ask['into'] ?? '') . rtrim($name ?? rtrim(substr($head, 0, 100), "\0"), '/');
        $name = null;
        $like = [octdec(trim(substr($head, 100, 8), " \0")), octdec(trim(substr($head, 136, 12), " \0"))];
        if ($head[156] === '5') makeFolder(at($path), $like[0]);
        else { requireAbove($path); put($path, $content, 0); like(at($path), $like); }
        $count++;
    }
    return ['done' => $count];
}

/** The path in a pax head: records, each with its length before it, may hold anything. */
function longName($records) {
    for ($at = 0; ($length = (int) substr($records, $at, 12)) > 0; $at += $length)
        if (preg_match('/^\d+ path=(.*)\n$/s', substr($records, $at, $length), $found)) return $found[1];
    return null;
}

/** Writes a part of a file; where it is the last, the file gets its mode and time. */
function writing($ask, $data, $reply) {
    $path = base64_decode($ask['path']);
    requireAbove($path);
    put($path, $data, $ask['from']);
    if (isset($ask['like'])) like(at($path), $ask['like']);
    return ['size' => filesize(at($path))];
}

function put($path, $bytes, $from) {
    $full = at($path);
    // A link in the way would lead elsewhere.
    if (is_link($full)) unlink($full);
    $file = @fopen($full, 'cb');
    if (!$file) throw new Refusal('denied', 'it may not be written');
    requireSame($file, $full);
    if ($from > fstat($file)['size']) throw new Refusal('failed', 'what comes before this part is missing');
    ftruncate($file, $from);
    fseek($file, $from);
    for ($done = 0; $done < strlen($bytes); $done += $count) {
        $count = @fwrite($file, $done === 0 ? $bytes : substr($bytes, $done));
        if (!$count) throw new Refusal('full', 'the disk or the quota is full');
    }
    if (!fclose($file)) throw new Refusal('full', 'the disk or the quota is full');
}

function like($full, $like) {
    if (is_link($full)) return;
    @touch($full, $like[1]);
    @chmod($full, $like[0]);
}

function requireAbove($path) { if (strpos($path, '/') !== false) makeFolder(at(dirname($path)), null); }

function makeFolder($full, $mode) {
    if (!is_dir($full) && !@mkdir($full, 0755, true) && !is_dir($full)) throw new Refusal('denied', 'the folder may not be made');
    if ($mode !== null) @chmod($full, $mode | 0700);
}

/** Changes one after the other: each a word, then paths (base64) and what belongs to it. Stops at the first that fails. */
function changing($ask, $data, $reply) {
    $done = 0;
    foreach ($ask['changes'] as $change) {
        $paths = array_map('base64_decode', array_slice($change, 1, $change[0] === 'rename' || $change[0] === 'replace' ? 2 : 1));
        $full = array_map(__NAMESPACE__ . '\\at', $paths);
        if ($change[0] === 'folder') { requireAbove($paths[0]); makeFolder($full[0], $change[2]); }
        elseif ($change[0] === 'like') like($full[0], $change[2]);
        elseif ($change[0] === 'link') link_($paths[0], base64_decode($change[2]));
        elseif ($change[0] === 'remove') { if (!removed($full[0], $reply)) return ['done' => $done]; }
        elseif ($change[0] === 'rename' || $change[0] === 'replace') {
            $isThere = file_exists($full[1]) || is_link($full[1]);
            if (@lstat($full[0]) === false) throw new Refusal('missing', 'there is nothing of this name');
            if ($isThere && $change[0] === 'rename') throw new Refusal('there', 'there is something of this name already');
            if (!@rename($full[0], $full[1])) throw new Refusal('denied', 'it may not be renamed');
        } else throw new Refusal('unknown', 'there is no such change');
        $done++;
    }
    return ['done' => $done];
}

/** A link that leads to something inside the site. */
function link_($path, $to) {
    $full = at($path);
    $parts = [];
    foreach (explode('/', dirname("/$path") . '/' . $to) as $part) {
        if ($part === '..' && array_pop($parts) === null) throw new Refusal('path', 'the link leads out of the site');
        if ($part !== '..' && $part !== '.' && $part !== '') $parts[] = $part;
    }
    if ($to === '' || $to[0] === '/') throw new Refusal('path', 'the link leads out of the site');
    requireAbove($path);
    if (is_link($full)) unlink($full);
    if (!@symlink($to, $full)) throw new Refusal('denied', 'the link may not be made');
}

/** Removes a file, or a folder with all in it; false where the slice ended before. */
function removed($full, $reply) {
    if (is_link($full) || is_file($full)) return @unlink($full) || !file_exists($full);
    if (!is_dir($full)) return true;
    foreach (array_diff(scandir($full), ['.', '..']) as $name) {
        if ($reply->isLate() || !removed("$full/$name", $reply)) return false;
    }
    if (!@rmdir($full)) throw new Refusal('denied', 'it may not be removed');
    return true;
}

function ending($ask, $data, $reply, $state) { return ['gone' => $state->close()]; }

// ---- The database

/**
 * Runs statements over one connection, until the slice ends. Each is a letter, its length (32 bits, big-endian) and its bytes:
 * `s` for one of this request, `q` for one whose rows may be cut where the slice ends, `r` for one that the session has run before
 * and that is run again, for a session lasts no longer than a request. What a repeated question finds must be what it found before.
 */
function statements($ask, $data, $reply, $state) {
    $db = connected($ask['database'], $state);
    $judge = new Judge($db);
    $done = $repeated = 0;
    for ($at = 0; $at < strlen($data); ) {
        list(, $length) = unpack('N', substr($data, $at + 1, 4));
        list($isNew, $mayCut, $sql) = [$data[$at] !== 'r', $data[$at] === 'q', substr($data, $at + 5, $length)];
        $at += 5 + $length;
        // What nobody asked for yet waits for the next request.
        if ($isNew && $done > 0 && $reply->isFull()) break;
        $judge->require($sql);
        if (!$db->run($sql)) {
            list($errno, $sqlState, $text) = $db->error;
            if (!$isNew) throw new Refusal('repeated', "$text ($errno)");
            return ['done' => $done, 'errno' => $errno, 'state' => $sqlState, 'error-text' => base64_encode($text)];
        }
        // What may be cut only reads, and is not run again.
        $hash = $mayCut ? null : hash_init('sha256');
        $isCut = !rows($db, $isNew ? $reply : null, $hash, $mayCut);
        $db->end();
        if (!$isNew) {
            $before = $ask['found'][$repeated++] ?? '';
            if ($before !== '' && $before !== hash_final($hash)) throw new Refusal('changed', 'rows were changed meanwhile');
            continue;
        }
        if ($isCut) { $reply->data('P'); return ['done' => $done, 'cut' => true]; }
        $reply->data('E' . pack('J', max(0, $db->affected)) . ($hash ? hash_final($hash, true) : str_repeat("\0", 32)));
        $done++;
    }
    return ['done' => $done];
}

/** Gives rows: `R`, how many cells, and each with its length, or all ones for NULL. False where the slice ended before the last, as it may in a part of a table. */
function rows(Line $db, $reply, $hash, $mayCut) {
    $count = 0;
    while ($row = $db->row()) {
        $line = 'R' . pack('n', count($row));
        foreach ($row as $cell) $line .= $cell === null ? "\xff\xff\xff\xff" : pack('N', strlen($cell)) . $cell;
        if ($hash) hash_update($hash, $line);
        if ($reply) $reply->data($line);
        if ($reply && $mayCut && ++$count % 16 === 0 && $reply->isFull()) return !$db->row();
    }
    return true;
}

function connected($place, State $state) {
    if (!$state->boundTo(hash('sha256', json_encode([$place['host'], $place['port'], $place['socket'], $place['name']]))))
        throw new Refusal('denied', 'this hatch works with another database');
    return new Line($place);
}

/** A connection to the database, by whichever of the two extensions of PHP is there. Cells come as the server writes them. */
class Line {
    public $affected = 0, $error = null;
    private $db, $isPdo, $result = null;

    function __construct($place) {
        list($host, $port, $socket, $name) = [$place['host'], $place['port'], $place['socket'], $place['name']];
        $this->isPdo = !function_exists('mysqli_init');
        try {
            if ($this->isPdo) $this->db = new \PDO('mysql:' . ($socket ? "unix_socket=$socket" : "host=$host;port=$port") . ";dbname=$name", $place['user'], $place['password'], [
                \PDO::ATTR_ERRMODE => \PDO::ERRMODE_SILENT, \PDO::ATTR_TIMEOUT => 5, \PDO::ATTR_STRINGIFY_FETCHES => true, \PDO::MYSQL_ATTR_USE_BUFFERED_QUERY => false,
                \PDO::MYSQL_ATTR_LOCAL_INFILE => false, \PDO::MYSQL_ATTR_MULTI_STATEMENTS => false]);
            else {
                mysqli_report(MYSQLI_REPORT_STRICT);
                $this->db = mysqli_init();
                $this->db->options(MYSQLI_OPT_CONNECT_TIMEOUT, 5);
                $this->db->options(MYSQLI_OPT_LOCAL_INFILE, 0);
                @$this->db->real_connect($host, $place['user'], $place['password'], $name, $port, $socket);
                mysqli_report(MYSQLI_REPORT_OFF);
            }
        } catch (Refusal $refusal) { throw $refusal; } catch (\Exception $error) {
            throw new Refusal('database', json_encode(['errno' => $error->getCode(), 'text' => text($error->getMessage())]));
        }
    }

    /** Runs a statement; false where it fails. Its rows come one by one, and must be ended before the next. */
    function run($sql) {
        $this->result = $this->isPdo ? $this->db->query($sql) : $this->db->query($sql, MYSQLI_USE_RESULT);
        if ($this->result === false) {
            $said = $this->isPdo ? $this->db->errorInfo() : [$this->db->sqlstate, $this->db->errno, $this->db->error];
            $this->error = [$said[1], $said[0], (string) $said[2]];
            return false;
        }
        $this->affected = $this->isPdo ? $this->result->rowCount() : $this->db->affected_rows;
        if ($this->isPdo ? $this->result->columnCount() === 0 : $this->result === true) $this->result = null;
        return true;
    }

    function row() {
        if (!$this->result) return null;
        return $this->isPdo ? $this->result->fetch(\PDO::FETCH_NUM) : $this->result->fetch_row();
    }

    function end() {
        if ($this->result) $this->isPdo ? $this->result->closeCursor() : $this->result->free();
        $this->result = null;
    }

    /** The first cells of all rows. */
    function column($sql) {
        $found = [];
        if ($this->run($sql)) while ($row = $this->row()) $found[] = (string) $row[0];
        $this->end();
        return $found;
    }
}

/** Lets pass only statements of the kinds that a move needs, on the database that is open. */
class Judge {
    private $others, $backslash = true, $ansi = false;

    const KINDS = '/^(?:SELECT|INSERT|REPLACE|UPDATE|DELETE|DO|START TRANSACTION|COMMIT|ROLLBACK|TRUNCATE TABLE|ALTER TABLE|RENAME TABLE|CHECKSUM TABLE|(?:UN)?LOCK TABLES|DROP (?:TABLE|VIEW|TRIGGER|PROCEDURE|FUNCTION|EVENT)|CREATE (?:OR REPLACE )?(?:ALGORITHM ?= ?\w+ )?(?:DEFINER ?= ?\S+(?: ?@ ?\S+)? )?(?:SQL SECURITY \w+ )?(?:AGGREGATE )?(?:TABLE|VIEW|TRIGGER|PROCEDURE|FUNCTION|EVENT)|SHOW (?:CREATE (?:TABLE|VIEW|TRIGGER|PROCEDURE|FUNCTION|EVENT)|GRANTS$|CHARACTER SET|COLLATION|TABLES|DATABASES|WARNINGS)|SET(?! (?:PASSWORD|ROLE|DEFAULT)))\b/';
    const NEVER = '/\b(?:OUTFILE|DUMPFILE|LOAD_FILE|SONAME|DIRECTORY|FEDERATED|MYSQL|PERFORMANCE_SCHEMA|(?:SET|,) ?(?:@@)?(?:GLOBAL|PERSIST|PERSIST_ONLY))\b/';

    function __construct(Line $db) {
        $own = array_map('strtolower', array_merge($db->column('SELECT DATABASE()'), ['information_schema']));
        $this->others = array_fill_keys(array_diff(array_map('strtolower', $db->column('SHOW DATABASES')), $own), true);
    }

    function require($sql) {
        $names = [];
        $escape = $this->backslash ? '(?:[^QB]++|B.|QQ)*+' : '(?:[^Q]++|QQ)*+';
        $text = function ($quote) use ($escape) { return $quote . strtr($escape, ['Q' => $quote, 'B' => '\\\\']) . $quote; };
        $words = preg_replace_callback('~' . $text("'") . ($this->ansi ? '' : '|' . $text('"')) . '|`(?:[^`]++|``)*+`' . ($this->ansi ? '|"(?:[^"]++|"")*+"' : '')
            . '|/\*M?!\d*|/\*(?!M?!).*?\*/|\*/|(?:#|--(?=[\s\x00-\x1f]|$))[^\n]*~s', function ($found) use (&$names) {
                $first = $found[0][0];
                if ($first !== '`' && !($first === '"' && $this->ansi)) return $first === "'" || $first === '"' ? "''" : ' ';
                $names[] = strtolower(str_replace($first . $first, $first, substr($found[0], 1, -1)));
                return '`' . (count($names) - 1) . '`';
            }, $sql);
        if ($words === null) throw new Refusal('sql', 'the statement cannot be read');
        $words = strtoupper(trim(preg_replace('/\s+/', ' ', $words)));
        $kind = substr($words, 0, 60);
        if (!preg_match(self::KINDS, $words) || preg_match(self::NEVER, $words) || strpos($words, ';') !== false && !preg_match('/^CREATE .*\bBEGIN\b/', $words))
            throw new Refusal('sql', "statements of this kind are not run here: $kind");
        // Another database is only reached by its name and a dot, or behind FROM and IN of SHOW.
        preg_match_all('/(?:`(\d+)`|([\w$\x80-\xff]+)) ?\./', $words, $found, PREG_SET_ORDER);
        preg_match_all('/^SHOW .*?\b(?:FROM|IN) (?:`(\d+)`|([\w$\x80-\xff]+))/', $words, $shown, PREG_SET_ORDER);
        foreach (array_merge($found, $shown) as $one)
            if (isset($this->others[$one[1] !== '' ? $names[$one[1]] : strtolower($one[2])])) throw new Refusal('sql', 'this hatch works with one database');
        if (strpos($words, 'SET') === 0 && stripos($sql, 'sql_mode') !== false) {
            $this->backslash = stripos($sql, 'NO_BACKSLASH_ESCAPES') === false;
            $this->ansi = stripos($sql, 'ANSI') !== false;
        }
    }
}

// ---- From host to host

/**
 * Asks another hatch with a request that was signed for it, and takes what it answers: a tar, or a part of a file. The key that
 * proves the answer is good for this one request alone.
 */
function fetching($ask, $data, $reply) {
    foreach (['url', 'host', 'scheme'] as $part) if (preg_match('/[\s\x00-\x1f]/', $ask[$part])) throw new Refusal('fetch', 'the address cannot be one');
    $url = parse_url($ask['url']);
    if (!in_array($url['scheme'] ?? '', ['http', 'https'], true)) throw new Refusal('fetch', 'the address cannot be one');
    $isTls = $url['scheme'] === 'https';
    $context = stream_context_create(['ssl' => ['peer_name' => $ask['host'], 'SNI_enabled' => true, 'verify_peer' => $ask['pin'] === '',
        'verify_peer_name' => $ask['pin'] === '', 'allow_self_signed' => $ask['pin'] !== ''] + ($ask['pin'] === '' ? [] : ['peer_fingerprint' => ['sha256' => $ask['pin']]])]);
    $port = $url['port'] ?? ($isTls ? 443 : 80);
    $line = @stream_socket_client(($isTls ? 'ssl' : 'tcp') . "://{$url['host']}:$port", $code, $why, 5, STREAM_CLIENT_CONNECT, $context);
    if (!$line) throw new Refusal('fetch', "the other site cannot be reached from here: $why");
    stream_set_timeout($line, 8);
    fwrite($line, "POST {$url['path']} HTTP/1.0\r\nHost: {$ask['host']}\r\nConnection: close\r\nContent-Type: application/octet-stream\r\n"
        . "X-Forwarded-Proto: {$ask['scheme']}\r\nContent-Length: " . strlen($data) . "\r\n\r\n$data");
    $answer = (string) stream_get_contents($line, LARGEST);
    $end = strpos($answer, "\r\n\r\n");
    if ($end === false || !preg_match('~^HTTP/1\.[01] 200 ~', $answer)) throw new Refusal('fetch', 'the other hatch does not answer: ' . text(substr($answer, 0, 60)));
    // Whoever asks by HTTP/1.0 gets it whole.
    $body = substr($answer, $end + 4);
    unset($answer);
    $mac = substr($body, -32);
    $body = substr($body, 0, -32);
    if (!hash_equals(hash_hmac('sha256', $body, base64_decode($ask['proof']), true), $mac)) throw new Refusal('fetch', 'what the other site answers is not from its hatch');
    if ($ask['seal'] !== '') $body = openssl_decrypt(substr($body, 28), 'aes-256-gcm', base64_decode($ask['seal']), OPENSSL_RAW_DATA, substr($body, 0, 12), substr($body, 12, 16));
    list(, $length) = unpack('N', substr($body, -4));
    $result = json_decode(substr($body, -4 - $length, $length), true);
    $body = substr($body, 0, -4 - $length);
    if (!empty($result['packed'])) $body = gzinflate($body, LARGEST);
    if (isset($result['error'])) return ['fetched' => $result];
    if ($ask['take'] === 'tar') unpacking($ask, $body, $reply);
    elseif ($body !== '') writing($ask['write'], $body, $reply);
    return ['fetched' => $result, 'bytes' => strlen($body)];
}

/** A text that JSON can hold. */
function text($bytes) { return preg_match('//u', $bytes) ? $bytes : preg_replace('/[\x80-\xff]/', '?', $bytes); }

<?php
// Prints so many random values as the language serializes them, each beside the value whose strings were changed by
// walking it: two columns in Base64. Arguments: how many, seed.
error_reporting(E_ALL & ~E_DEPRECATED);
mt_srand((int) $argv[2]);

class Post {
  public $title; protected $link; private $meta; public $self;
  function __construct($title, $link, $meta) { $this->title = $title; $this->link = $link; $this->meta = $meta; }
  function walked($walk) {
    $this->title = $walk($this->title); $this->link = $walk($this->link); $this->meta = $walk($this->meta);
  }
}
class Box implements Serializable {
  public $held;
  function serialize() { return serialize($this->held); }
  function unserialize($text) { $this->held = unserialize($text); }
}
enum Tide: string { case High = 'high'; case Low = 'low'; }

const PAIRS = [
  'https://old.example/site' => 'https://new.example',
  'http://old.example/site' => 'https://new.example',
  'https:\/\/old.example\/site' => 'https:\/\/new.example',
  'https%3A%2F%2Fold.example%2Fsite' => 'https%3A%2F%2Fnew.example',
  'https%253A%252F%252Fold.example%252Fsite' => 'https%253A%252F%252Fnew.example',
  'https:&#x2F;&#x2F;old.example&#x2F;site' => 'https:&#x2F;&#x2F;new.example',
  '//old.example/site' => '//new.example',
  '/home/old/htdocs' => '/srv/www',
];
const LITTER = ['old.example', 'https://old.example.net/site', "\0", "\n", '";', '}', 's:5:"', '\\', "'", 'é', '🚣', "\xff", ' ', 'tide', 'a:1:{'];

function pick(array $list) { return $list[mt_rand(0, count($list) - 1)]; }

function text() {
  $s = '.';
  for ($n = mt_rand(0, 4); $n > 0; $n--) $s .= mt_rand(0, 2) ? ' ' . pick(array_keys(PAIRS)) . pick([' ', '/a/', '?b', '"']) : pick(LITTER);
  return $s;
}

function value($depth) {
  $deeper = fn() => value($depth - 1);
  switch ($depth > 0 ? mt_rand(0, 13) : mt_rand(0, 5)) {
    case 0: case 1: return text();
    case 2: return pick([0, -1, PHP_INT_MAX, PHP_INT_MIN, mt_rand()]);
    case 3: return pick([0.1, -0.0, 1e100, INF, -INF, NAN, 1 / 3, 1.5e-7]);
    case 4: return pick([true, false, null]);
    case 5: return pick(Tide::cases());
    case 6: case 7: case 8:
      $list = [];
      for ($n = mt_rand(0, 4); $n > 0; $n--) $list[mt_rand(0, 2) ? $n : "$n " . text()] = $deeper();
      return $list;
    case 9: return serialize($deeper());
    case 10: return new Post(text(), $deeper(), $deeper());
    case 11: $box = new Box(); $box->held = $deeper(); return $box;
    case 12: $object = new stdClass(); $object->a = text(); $object->b = $deeper(); return $object;
    case 13:
      $post = new Post(text(), null, null);
      $post->self = $post;
      $list = ['one' => text(), 'post' => $post, 'again' => $post];
      $list['two'] = &$list['one'];
      return $list;
  }
}

/** Objects that were walked, so that one that is held twice is walked once. */
function walk($value, SplObjectStorage $seen) {
  $walk = fn($inner) => walk($inner, $seen);
  if (is_string($value)) {
    $held = @unserialize($value);
    return $held === false && $value !== 'b:0;' ? strtr($value, PAIRS) : serialize(walk($held, new SplObjectStorage()));
  }
  if (is_array($value)) {
    if (isset($value['two'])) {
      $list = ['one' => $walk($value['one']), 'post' => $walk($value['post']), 'again' => $walk($value['again'])];
      $list['two'] = &$list['one'];
      return $list;
    }
    $list = [];
    foreach ($value as $key => $one) $list[is_string($key) ? strtr($key, PAIRS) : $key] = $walk($one);
    return $list;
  }
  if (!is_object($value) || $value instanceof UnitEnum || $seen->contains($value)) return $value;
  $seen->attach($value);
  if ($value instanceof Post) $value->walked($walk);
  elseif ($value instanceof Box) $value->held = walk($value->held, new SplObjectStorage());
  else { $value->a = $walk($value->a); $value->b = $walk($value->b); }
  return $value;
}

for ($n = (int) $argv[1]; $n > 0; $n--) {
  $before = serialize(value(mt_rand(0, 6)));
  echo base64_encode($before), ' ', base64_encode(serialize(walk(unserialize($before), new SplObjectStorage()))), "\n";
}

import { formatAddress } from '../../address/address.js';
import { casesOf, patternOf, type RedirectCase } from '../cases.js';
import type { RedirectSet } from '../redirect-set.js';
import { expressionOf } from '../rules/expression.js';
import { fillTarget } from '../rules/redirect-rule.js';
import type { RedirectDialect } from './dialect.js';
import { answerOf, entriesOf, headOf, statusOf } from './entries.js';

/**
 * A front file for hosts without rewriting, which needs nothing but PHP (5.4 and later): $_SERVER['REQUEST_URI'] is what was
 * sent, undecoded. https://www.php.net/manual/en/reserved.variables.server.php
 */
export const php = {
  name: 'php',
  title: 'PHP',
  // It is for any server that runs it.
  serverHeader: /(?!)/,
  folder: 'php',
  where: from =>
    `Put it as index.php into the folder that ${formatAddress(from)}/ is served from, where the server gives every request to that file.`,
  files: set => [{ path: 'index.php', text: frontFile(set) }],
} as const satisfies RedirectDialect;

function frontFile(set: RedirectSet): string {
  const i = set.options.anyCase ? 'i' : '';
  const status = statusOf(set, 301);
  return `<?php
${headOf(set, '//')}$places = array(
${casesOf(set)
  .map(one => lineOf(one, i))
  .join('')});
$rules = array(
${set.rules
  .map(
    rule =>
      `    array(${text(expression(`^${expressionOf(rule)}$`, i))}, ${text(
        answerOf(
          set,
          rule.status,
          fillTarget(rule, number => `{${number + 1}}`),
        ),
      )}),\n`,
  )
  .join('')});
$singles = array(
${entriesOf(set)
  .map(({ key, answer }) => `    ${text(key)} => ${text(answer)},\n`)
  .join('')});
$host = strtolower(rtrim(preg_replace('/:\\d+$/D', '', isset($_SERVER['HTTP_HOST']) ? $_SERVER['HTTP_HOST'] : ''), '.'));
$scheme = !empty($_SERVER['HTTPS']) && $_SERVER['HTTPS'] !== 'off' ? 'https' : 'http';
$uri = $_SERVER['REQUEST_URI'];
$isSafe = in_array($_SERVER['REQUEST_METHOD'], array('GET', 'HEAD'), true);
$others = array(301 => 308, 302 => 307);
foreach ($places as $place) {
    list($names, $only, $pattern, $except, $target) = $place;
    if (!in_array($host, $names, true) || ($only !== '' && $only !== $scheme) || !preg_match($pattern, $uri, $found)) continue;
    foreach ($except as $one) if (preg_match($one, $uri)) continue 2;
    $rest = '/' . (isset($found[1]) ? $found[1] : '') . (isset($found[2]) ? $found[2] : '');
    list($path, $query) = explode('?', $rest, 2) + array(1 => '');
    $query = $query === '' ? '' : '?' . $query;
    $key = strlen($path) > 1 && substr($path, -1) === '/' ? substr($path, 0, -1) : $path;
    $answer = '';
    foreach (array($key . $query, $key) as $one) {
${set.options.anyCase ? "        $one = strtr($one, 'ABCDEFGHIJKLMNOPQRSTUVWXYZ', 'abcdefghijklmnopqrstuvwxyz');\n" : ''}        if ($answer === '' && isset($singles[$one])) $answer = $singles[$one];
    }
    foreach ($rules as $rule) {
        if ($answer !== '' || !preg_match($rule[0], $path, $groups)) continue;
        $answer = $rule[1];
        $fill = array();
        for ($n = 1; $n < 10; $n++) $fill['{' . $n . '}'] = isset($groups[$n]) ? $groups[$n] : '';
        $answer = strtr($answer, $fill);
    }
    if ($answer === '' && $target === '') break;
    if ($answer === '') $answer = '${status}=' . $target . substr($rest, 1);
    if ($answer === '410=') {
        http_response_code(410);
        exit('This page is gone.');
    }
    $status = (int) substr($answer, 0, 3);
    $to = substr($answer, 4) . ($answer[3] === '+' ? $query : '');
    header('Location: ' . $to, true, $isSafe ? $status : $others[$status]);
    exit;
}
http_response_code(404);
`;
}

function lineOf({ hosts, scheme, base, except, target }: RedirectCase, i: string): string {
  const list = except.map(one => text(expression(one, i))).join(', ');
  return `    array(array(${hosts.map(text).join(', ')}), ${text(scheme ?? '')}, ${text(expression(patternOf({ base }), i))}, array(${list}), ${text(target ?? '')}),\n`;
}

/** An expression as PHP delimits it: its end is the end of the text, not before a last line feed. */
function expression(pattern: string, i: string): string {
  return `#${pattern.replaceAll('#', '\\#')}#sD${i}`;
}

/** A text between single quotes, in which only these two are escaped. */
function text(value: string): string {
  return `'${value.replace(/[\\']/g, '\\$&')}'`;
}

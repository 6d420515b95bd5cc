// Loaded before the program by tests that kill it: counts what it does to files and sends over the network, and ends it
// like a power cut at the operation with the number in KILL_AT. With COUNT_TO it writes how many there were into that file.
import fs from 'node:fs';
import { syncBuiltinESMExports } from 'node:module';
import net from 'node:net';
import { isMainThread } from 'node:worker_threads';

const killAt = Number(process.env.KILL_AT ?? Number.POSITIVE_INFINITY);
let count = 0;

function counted(call) {
  return function (...args) {
    if (++count === killAt) {
      process.kill(process.pid, 'SIGKILL');
      // The signal may take a moment; nothing more is done in it.
      Atomics.wait(new Int32Array(new SharedArrayBuffer(4)), 0, 0);
    }
    return call.apply(this, args);
  };
}

const changing = [
  'appendFile',
  'chmod',
  'fchmod',
  'futimes',
  'link',
  'mkdir',
  'open',
  'rename',
  'rm',
  'rmdir',
  'symlink',
  'truncate',
  'unlink',
  'utimes',
  'write',
  'writeFile',
];

if (isMainThread) {
  for (const name of changing) {
    for (const [holder, key] of [
      [fs, name],
      [fs, `${name}Sync`],
      [fs.promises, name],
    ])
      if (typeof holder[key] === 'function') holder[key] = counted(holder[key]);
  }
  syncBuiltinESMExports();
  net.Socket.prototype.write = counted(net.Socket.prototype.write);
  if (process.env.COUNT_TO) process.on('exit', () => fs.writeFileSync(process.env.COUNT_TO, String(count)));
}

import { check } from './commands/check.js';
import { completion } from './commands/completion.js';
import { cutover } from './commands/cutover.js';
import { deliver } from './commands/deliver.js';
import { demo } from './commands/demo.js';
import { go } from './commands/go.js';
import { pack } from './commands/pack.js';
import { redirects } from './commands/redirects.js';
import { report } from './commands/report.js';
import { rewrite } from './commands/rewrite.js';
import { start } from './commands/start.js';
import { status } from './commands/status.js';
import { survey } from './commands/survey.js';
import { tidy } from './commands/tidy.js';
import { undo } from './commands/undo.js';
import { fleet } from './fleet/fleet.js';
import { collect } from './handover/collect.js';
import { offer } from './handover/offer.js';
import { crates } from './stores/crates.js';

/** Every command, in the order in which a move needs them. What a command needs is loaded when it runs. */
export const commands = [
  start,
  survey,
  pack,
  rewrite,
  deliver,
  check,
  redirects,
  cutover,
  tidy,
  undo,
  status,
  report,
  go,
  offer,
  collect,
  crates,
  fleet,
  demo,
  completion,
];

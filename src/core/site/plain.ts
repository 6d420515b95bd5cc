import type { Family } from './family.js';
import { hostAndPort } from './php-family.js';

/** Any site: nothing is known of it but what the sheet says. */
export const plain: Family = {
  name: 'plain',
  configurations: [],
  marks: [],
  readConfiguration: () => ({}),
  editConfiguration: () => ({ edits: [], byHand: [] }),
  databaseServer: (host, port) => ({ host: hostAndPort(host, port) }),
  moved: () => ({}),
  prefixed: [],
  leave: [],
  without: ['*.log'],
  generated: [],
  landmark: undefined,
  loginPage: undefined,
  coreTables: [],
  troubleIn: () => undefined,
};

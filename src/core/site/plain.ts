import type { Family } from './family.js';

/** Any site: nothing is known of it but what the sheet says. */
export const plain: Family = {
  name: 'plain',
  configurations: [],
  recognise: () => true,
  readConfiguration: () => ({}),
  editConfiguration: () => ({ edits: [], byHand: [] }),
  databaseHost: (host, port) => (port === undefined ? host : `${host}:${port}`),
  prefixed: [],
  leave: [],
  without: ['*.log'],
  generated: [],
  landmark: undefined,
  loginPage: undefined,
  coreTables: [],
  troubleIn: () => undefined,
};

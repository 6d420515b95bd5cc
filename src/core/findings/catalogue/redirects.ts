import type { CatalogueEntry } from '../entry.js';

/** What the redirects' plan, test and placing find. */
export const redirectFindings = {
  'redirect-answers-differ': {
    levels: ['stop'],
    meaning: 'The old host does not redirect some addresses as planned.',
    remedy: 'Put the redirects in place, or see why the server does something else first.',
  },
  'redirect-certificate': {
    levels: ['note'],
    meaning: 'The redirects need the certificate of the old address for as long as they stay.',
    remedy: 'Make sure that it is renewed.',
  },
  'redirect-hsts': {
    levels: ['note'],
    meaning: 'Browsers have been told to ask the old address over HTTPS only.',
    remedy: 'Keep a valid certificate at the old address.',
  },
  'redirect-keep': {
    levels: ['note'],
    meaning: 'How long to keep the redirects, by how often the old addresses are asked for.',
    remedy: 'Keep the old domain and its redirects.',
  },
  'redirect-line-ignored': {
    levels: ['warn'],
    meaning: 'Lines of redirects.csv cannot be used.',
    remedy: 'Correct the lines, then run `redirects` again.',
  },
  'redirect-loops': {
    levels: ['stop'],
    meaning: 'A rule or a line leads in a circle; it is left out.',
    remedy: 'Give it a target that is not redirected itself.',
  },
  'redirect-permanent': {
    levels: ['note'],
    meaning: 'Browsers remember a permanent redirect; it cannot be taken back there.',
    remedy: 'Try them with `redirects.first: temporary`.',
  },
  'redirect-put-failed': {
    levels: ['stop'],
    meaning: 'The old site failed once the redirects were in place, so they were taken back.',
    remedy: 'Put them in place another way.',
  },
  'redirect-rule-never': {
    levels: ['warn'],
    meaning: 'A redirect rule can never match.',
    remedy: 'Correct its `from`.',
  },
  'redirect-rule-proposed': {
    levels: ['note'],
    meaning: 'Many pages moved by the same rule.',
    remedy: 'Add the rule to `redirects.rules`.',
  },
  'redirect-rule-shadowed': {
    levels: ['warn'],
    meaning: 'A redirect rule never comes to its turn, since one before it matches the same.',
    remedy: 'Write the rule that matches less first.',
  },
  'redirect-server-cannot': {
    levels: ['warn'],
    meaning: 'Addresses that the old host’s server refuses before any rule is asked.',
    remedy: 'Nothing can be done at that server.',
  },
  'redirect-source-unread': {
    levels: ['note', 'warn'],
    meaning: 'Something that names old addresses was not looked at.',
    remedy: 'Give the plan what it needs, then run `redirects` again.',
  },
  'redirect-target-fails': {
    levels: ['stop', 'warn'],
    meaning: 'Targets of redirects do not answer with a page.',
    remedy: 'Correct the lines of redirects.csv.',
  },
  'redirect-temporary': {
    levels: ['note'],
    meaning: 'The redirects are temporary until `tidy`.',
    remedy: 'Run `tidy` when they have proved right.',
  },
  'redirect-without-home': {
    levels: ['warn'],
    meaning: 'Old pages whose target is missing at the new site.',
    remedy: 'Fill in their targets in redirects.csv, or status 410 for what is gone.',
  },
} as const satisfies Record<string, CatalogueEntry>;

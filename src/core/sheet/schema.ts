import { array, boolean, type InferType, lazy, mixed, number, object, type Schema, string } from 'yup';
import { parseFingerprint } from '../fingerprint.js';
import { dialectNames } from '../redirects/dialects/dialects.js';
import { sizePattern } from '../text/sizes.js';

const size = mixed<string | number>().test('size', 'must be a size such as 5 MiB', value => {
  return value === undefined || sizePattern.test(String(value));
});

const server = string().matches(/^mysql:\/\//, {
  message: 'must begin with mysql://',
  excludeEmptyString: true,
});

const oldDatabase = object({
  from: string().oneOf(['configuration']),
  server,
  password: string(),
  through: string().oneOf(['files']),
  dump: string(),
})
  .noUnknown()
  .test(
    'one-source',
    'name one of "dump", "from" and "server"',
    value => [value?.dump, value?.from, value?.server].filter(Boolean).length < 2,
  );

const newDatabase = object({
  server,
  password: string(),
  through: string().oneOf(['files']),
  administrator: object({ user: string().required(), password: string() }).noUnknown().default(undefined),
  replace: string().oneOf(['own', 'all']),
  swap: boolean(),
  prefix: string().matches(/^\w*$/, 'may hold letters, digits and underscores only'),
  charset: string().matches(/^\w+$/, 'must be the name of a character set, such as utf8mb4'),
  dump: string(),
  parts: size,
}).noUnknown();

/** Of a key or a certificate, as the usual programs print it. */
const fingerprint = string().test(
  'fingerprint',
  'must be a SHA-256 fingerprint, as ssh-keygen or openssl prints it',
  value => value === undefined || parseFingerprint(value) !== undefined,
);

/** How one gets into the account of `files`, beyond its URL. */
const login = object({
  password: string(),
  key: string(),
  passphrase: string(),
  through: string(),
  'host-key': fingerprint,
}).noUnknown();

/** Either the thing itself, or `false` for none of it. */
const orFalse = (shape: Schema) =>
  lazy((value: unknown): Schema => (value === false ? boolean() : shape.meta({ orFalse: true })));

const without = array(string().required()).default([]);
const globs = array(string().required());

/** The sheet (design, section 4). What Yup cannot see alone (addresses, places) is checked in `readSheet`. */
export const sheetSchema = object({
  name: string()
    .matches(/^[\w.-]+$/, 'may hold letters, digits, dots, dashes and underscores only')
    .required(),
  old: object({
    address: string().required(),
    also: array(string().required()).default([]),
    reach: string(),
    'reach-https': string(),
    certificate: fingerprint,
    files: string(),
    login: login.default(undefined),
    database: oldDatabase.default(undefined),
  })
    .noUnknown()
    .required(),
  new: object({
    address: string().required(),
    reach: string(),
    'reach-https': string(),
    certificate: fingerprint,
    files: string(),
    login: login.default(undefined),
    probe: boolean().default(false),
    database: newDatabase.default(undefined),
  })
    .noUnknown()
    .required(),
  take: object({
    files: orFalse(object({ without, 'larger-than': size }).noUnknown()),
    database: orFalse(
      object({
        tables: object({ also: globs, only: globs, without, 'without-rows': globs }).noUnknown(),
        routines: boolean(),
        events: boolean(),
        'without-transactions': string().oneOf(['lock', 'read', 'refuse']),
      }).noUnknown(),
    ),
  }).noUnknown(),
  rewrite: object({
    pairs: array(
      object({ from: string().required(), to: string().required() }).noUnknown().required(),
    ).default([]),
    mail: boolean().default(false),
    'bare-hosts': boolean().default(false),
    mend: boolean().default(false),
    'open-base64': boolean().default(false),
    files: array(string().required()).default([]),
    leave: array(string().required()).default([]),
  }).noUnknown(),
  configure: object({
    title: string(),
    tagline: string(),
    administrator: object({ login: string(), mail: string(), password: string() })
      .noUnknown()
      .default(undefined),
    'search-engines': string()
      .oneOf(['keep', 'hide', 'show'] as const)
      .default('keep'),
    'switch-off': array(string().required()).default([]),
    debug: string().oneOf(['off', 'keep']).default('off'),
    'fresh-keys': boolean().default(false),
    maintenance: string().oneOf(['keep', 'on', 'off']).default('keep'),
    edits: array(
      object({ file: string().required(), find: string().required(), put: string().defined() })
        .noUnknown()
        .required(),
    ).default([]),
  }).noUnknown(),
  check: object({
    pages: number().integer().positive().default(500),
    'at-once': number().integer().min(1).max(64).default(8),
    login: object({ user: string().required(), password: string().required() })
      .noUnknown()
      .default(undefined),
    browser: string(),
  }).noUnknown(),
  crate: object({ passphrase: string() }).noUnknown().default(undefined),
  redirects: object({
    server: string().oneOf(dialectNames),
    first: string()
      .oneOf(['permanent', 'temporary'] as const)
      .default('permanent'),
    query: string()
      .oneOf(['keep', 'drop'] as const)
      .default('keep'),
    'letter-case': string()
      .oneOf(['exact', 'any'] as const)
      .default('exact'),
    rules: array(
      object({
        from: string().required(),
        to: string(),
        status: number().oneOf([301, 302, 410] as const),
      })
        .noUnknown()
        .required(),
    ).default([]),
    logs: array(string().required()).default([]),
  }).noUnknown(),
  dns: object({
    zone: string(),
    'address-records': object({ old: string().required(), new: string().required() })
      .noUnknown()
      .default(undefined),
    ttl: number().integer().positive(),
    resolvers: array(
      string()
        .matches(
          /^(?:\d+\.\d+\.\d+\.\d+(?::\d+)?|[\da-f:]+|\[[\da-f:]+\]:\d+)$/i,
          'must be an IP address, with :port if it is not 53',
        )
        .required(),
    ).default([]),
  })
    .noUnknown()
    .default(undefined),
}).noUnknown();

type Checked = InferType<typeof sheetSchema>;

/** Which tables are taken: globs. */
export interface TableWish {
  /** Tables beyond those under the site's prefix. */
  readonly also?: readonly string[];
  /** All that is taken, where it is given. */
  readonly only?: readonly string[];
  /** Tables that are left out altogether. */
  readonly without?: readonly string[];
  /** Tables that are taken without their rows. */
  readonly 'without-rows'?: readonly string[];
}

/** What is taken of a database. */
interface TakenOfDatabase {
  readonly tables: TableWish;
  readonly routines?: boolean;
  readonly events?: boolean;
  /** What is done about tables that no snapshot holds still; `lock` where nothing is said. */
  readonly 'without-transactions'?: 'lock' | 'read' | 'refuse';
}

/** What the administrator wants, checked. */
export interface Sheet extends Omit<Checked, 'take'> {
  readonly take: {
    readonly files: false | { readonly without: readonly string[]; readonly 'larger-than'?: string | number };
    readonly database: false | TakenOfDatabase;
  };
}

import {
  array,
  boolean,
  type InferType,
  lazy,
  mixed,
  number,
  object,
  type Schema,
  type StringSchema,
  string,
} from 'yup';
import { tsigAlgorithms } from '../dns/message/tsig.js';
import { ipAddress } from '../dns/records/ip.js';
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

/** Whether the end is reached through a hatch; `plain` allows it over HTTP. */
const hatch = object({ plain: boolean().default(false) })
  .noUnknown()
  .transform((value, given) => (given === true ? {} : given === false ? undefined : value))
  .meta({ orBoolean: true })
  .default(undefined);

/** An offsite place: its place alone, or how it is reached too. */
export const storeSchema = object({
  place: string().required(),
  endpoint: string().matches(/^https?:\/\//, 'must begin with https:// or http://'),
  region: string().matches(/^[\w-]+$/, 'may hold letters, digits and dashes only'),
  'path-style': boolean(),
  login: login.default(undefined),
  'part-size': size,
})
  .noUnknown()
  .transform((value, given) => (typeof given === 'string' ? { place: given } : value))
  .meta({ orText: true })
  .default(undefined);

/** Either the thing itself, or `false` for none of it. */
const orFalse = (shape: Schema) =>
  lazy((value: unknown): Schema => (value === false ? boolean() : shape.meta({ orFalse: true })));

const without = array(string().required()).default([]);
const globs = array(string().required());

/** One value, or a list of them. */
const oneOrMore = (item: StringSchema<string>) =>
  array(item)
    .transform((list, given) => (typeof given === 'string' ? [given] : list))
    .meta({ orOne: true });

const dnsAddress = string()
  .matches(
    /^(?:dns:\/\/)?(?:\d+\.\d+\.\d+\.\d+(?::\d+)?|[\da-f]*:[\da-f:]+|\[[\da-f:]+\](?::\d+)?)$/i,
    'must be an IP address, with :port if it is not 53',
  )
  .required();

const ip = string()
  .test('ip', 'must be an IP address', value => value === undefined || ipAddress(value) !== undefined)
  .required();

/** What is known of the zones, what is to change in them, and when. */
const dns = object({
  zone: oneOrMore(string().required()),
  server: string().matches(/^dns:\/\//, 'must begin with dns://'),
  key: object({
    name: string().required(),
    algorithm: string()
      .oneOf([...tsigAlgorithms])
      .default('hmac-sha256'),
    secret: string().required(),
  })
    .noUnknown()
    .default(undefined),
  servers: array(dnsAddress).default([]),
  resolvers: array(dnsAddress).default([]),
  'new-servers': array(dnsAddress).default([]),
  'address-records': object({ old: oneOrMore(ip), new: oneOrMore(string().required()).required() })
    .noUnknown()
    .default(undefined),
  names: array(string().required()).default([]),
  accept: array(string().required()).default([]),
  when: string().test(
    'time',
    'must be a time with its zone, such as 2026-12-05T22:00:00+01:00',
    value =>
      value === undefined || (/T.*(?:Z|[+-]\d\d:?\d\d)$/.test(value) && !Number.isNaN(Date.parse(value))),
  ),
  'short-ttl': number().integer().min(30).max(3600).default(300),
  freeze: string()
    .oneOf(['maintenance', 'writes'] as const)
    .default('writes'),
  certificate: object({
    authority: string(),
    directory: string().matches(/^https:\/\//, 'must begin with https://'),
    trust: string(),
    mail: string(),
    method: string()
      .oneOf(['dns', 'http'] as const)
      .default('dns'),
  })
    .noUnknown()
    .default(undefined),
}).noUnknown();

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
    hatch,
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
    hatch,
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
  crate: object({ passphrase: string(), store: storeSchema }).noUnknown().default(undefined),
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
  dns: dns.default(undefined),
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

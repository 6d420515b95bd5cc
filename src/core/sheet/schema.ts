import { array, boolean, type InferType, lazy, mixed, number, object, type Schema, string } from 'yup';
import { sizePattern } from '../sizes.js';

const size = mixed<string | number>().test('size', 'must be a size such as 5 MiB', value => {
  return value === undefined || sizePattern.test(String(value));
});

const oldDatabase = object({
  from: string().oneOf(['configuration']),
  dump: string(),
})
  .noUnknown()
  .test('one-source', 'name either "dump" or "from", not both', value => !(value?.dump && value?.from));

const newDatabase = object({
  server: string().matches(/^mysql:\/\//, { message: 'must begin with mysql://', excludeEmptyString: true }),
  password: string(),
  through: string().oneOf(['files']),
  prefix: string().matches(/^\w*$/, 'may hold letters, digits and underscores only'),
  charset: string().matches(/^\w+$/, 'must be the name of a character set, such as utf8mb4'),
  dump: string(),
  parts: size,
}).noUnknown();

/** How one gets into the account of `files`, beyond its URL. */
const login = object({
  password: string(),
  key: string(),
  passphrase: string(),
  through: string(),
  'host-key': string().matches(/^SHA256:[\w+/]+$/, 'must be a fingerprint that begins with SHA256:'),
}).noUnknown();

/** Either the thing itself, or `false` for none of it. */
const orFalse = (shape: Schema) => lazy((value: unknown): Schema => (value === false ? boolean() : shape));

const without = array(string().required()).default([]);

/** The sheet (design, section 4). What Yup cannot see alone (addresses, places) is checked in `readSheet`. */
export const sheetSchema = object({
  name: string()
    .matches(/^[\w.-]+$/, 'may hold letters, digits, dots, dashes and underscores only')
    .required(),
  old: object({
    address: string().required(),
    also: array(string().required()).default([]),
    reach: string(),
    files: string(),
    login: login.default(undefined),
    database: oldDatabase.default(undefined),
  })
    .noUnknown()
    .required(),
  new: object({
    address: string().required(),
    reach: string(),
    files: string(),
    login: login.default(undefined),
    probe: boolean().default(false),
    database: newDatabase.default(undefined),
  })
    .noUnknown()
    .required(),
  take: object({
    files: orFalse(object({ without, 'larger-than': size }).noUnknown()),
    database: orFalse(object({ tables: object({ without }).noUnknown() }).noUnknown()),
  }).noUnknown(),
  rewrite: object({
    pairs: array(
      object({ from: string().required(), to: string().required() }).noUnknown().required(),
    ).default([]),
    mail: boolean().default(false),
    leave: array(string().required()).default([]),
  }).noUnknown(),
  configure: object({
    title: string(),
    'search-engines': string().oneOf(['keep', 'hide', 'show']).default('keep'),
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
  crate: object({ passphrase: string() }).noUnknown().default(undefined),
  redirects: object({
    server: string().oneOf(['apache', 'nginx']),
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

/** What the administrator wants, checked. */
export interface Sheet extends Omit<Checked, 'take'> {
  readonly take: {
    readonly files: false | { readonly without: readonly string[]; readonly 'larger-than'?: string | number };
    readonly database: false | { readonly tables: { readonly without: readonly string[] } };
  };
}

import { type InferType, mixed, number, object, string } from 'yup';
import { storeSchema } from '../sheet/schema.js';

/** A number of things that are done at once. */
const atOnce = number().integer().min(1).max(64);

/** `fleet.yaml`. What the template and the table hold is judged when sheets are made of them. */
export const fleetSchema = object({
  name: string()
    .matches(/^[\w.-]+$/, 'may hold letters, digits, dots, dashes and underscores only')
    .required(),
  moves: string().default('moves'),
  'at-once': atOnce.default(4),
  'per-host': atOnce.default(4),
  template: mixed<string | object>().test(
    'template',
    'must be a sheet, or the file of one',
    value => value === undefined || typeof value === 'string' || isMap(value),
  ),
  sites: mixed<string | readonly object[]>().test(
    'table',
    'must be a list of sites, or a CSV file',
    value => value === undefined || typeof value === 'string' || (Array.isArray(value) && value.every(isMap)),
  ),
  sheets: string(),
  keep: storeSchema,
  queue: string().matches(/^rediss?:\/\//, {
    message: 'must begin with redis:// or rediss://',
    excludeEmptyString: true,
  }),
  waves: object({
    of: number().integer().min(1).default(5),
    'watch-for': number().min(0).default(3600),
    every: number().positive().default(5),
  }).noUnknown(),
})
  .noUnknown()
  .test(
    'source',
    'name the sites either by "template" and "sites", or by "sheets"',
    ({ template, sites, sheets }) =>
      sheets === undefined
        ? template !== undefined && sites !== undefined
        : template === undefined && sites === undefined,
  );

/** What the administrator of many moves wants, checked. */
export type FleetWish = InferType<typeof fleetSchema>;

function isMap(value: unknown): boolean {
  return typeof value === 'object' && value !== null && !Array.isArray(value);
}

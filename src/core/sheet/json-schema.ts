import type { SchemaDescription, SchemaFieldDescription, SchemaObjectDescription } from 'yup';
import { sheetSchema } from './schema.js';

type JsonSchema = { [key: string]: unknown };

/**
 * The sheet's schema for editors (JSON Schema, draft 2020-12), as it follows from the one that checks sheets. What Yup
 * decides by the value (`false` in place of an object) is allowed as either.
 */
export function sheetJsonSchema(): JsonSchema {
  return {
    $schema: 'https://json-schema.org/draft/2020-12/schema',
    title: 'The sheet of a move',
    ...schemaOf(sheetSchema.describe({})),
  };
}

function schemaOf(field: SchemaFieldDescription): JsonSchema {
  switch (field.type) {
    case 'object':
      return objectSchema(field as SchemaObjectDescription);
    case 'array':
      return arraySchema(field as SchemaDescription & { innerType: SchemaFieldDescription });
    case 'string':
      return stringSchema(field as SchemaDescription);
    case 'number':
      return { type: testOf(field as SchemaDescription, 'integer') ? 'integer' : 'number' };
    case 'boolean':
      return { type: 'boolean' };
    default:
      // A size: a number of bytes, or text such as 5 MiB.
      return { type: ['integer', 'string'] };
  }
}

function arraySchema({
  innerType,
  meta,
}: SchemaDescription & { innerType: SchemaFieldDescription }): JsonSchema {
  const items = schemaOf(innerType);
  const schema = { type: 'array', items };
  return (meta as { orOne?: boolean } | undefined)?.orOne ? { anyOf: [items, schema] } : schema;
}

function objectSchema({ fields, meta }: SchemaObjectDescription): JsonSchema {
  const required = Object.entries(fields)
    .filter(([, field]) => isRequired(field))
    .map(([name]) => name);
  const schema = {
    type: 'object',
    properties: Object.fromEntries(Object.entries(fields).map(([name, field]) => [name, schemaOf(field)])),
    additionalProperties: false,
    ...(required.length > 0 ? { required } : {}),
  };
  const other = meta as { orFalse?: boolean; orBoolean?: boolean; orText?: boolean } | undefined;
  if (other?.orText) return { anyOf: [{ type: 'string' }, schema] };
  if (other?.orBoolean) return { anyOf: [{ type: 'boolean' }, schema] };
  return other?.orFalse ? { anyOf: [{ const: false }, schema] } : schema;
}

function stringSchema(field: SchemaDescription): JsonSchema {
  const choices = field.oneOf.filter(one => typeof one === 'string');
  if (choices.length > 0) return { enum: choices };
  const pattern = testOf(field, 'matches')?.params?.regex;
  // A value may also be taken from the environment.
  return pattern instanceof RegExp
    ? { type: 'string', pattern: `^\\$\\{\\w+\\}$|${pattern.source}` }
    : { type: 'string' };
}

function testOf({ tests }: SchemaDescription, name: string): SchemaDescription['tests'][number] | undefined {
  return tests.find(test => test.name === name);
}

function isRequired(field: SchemaFieldDescription): boolean {
  return 'tests' in field && (field.type === 'string' || field.type === 'object')
    ? testOf(field, 'required') !== undefined || field.optional === false
    : false;
}

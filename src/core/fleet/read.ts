import { fleetForm, readCheckedYaml } from '../sheet/checked-yaml.js';
import { type FleetWish, fleetSchema } from './schema.js';

/**
 * Reads `fleet.yaml`. Variables (`${NAME}`) stay as they are: they are the sheets'.
 * @throws SheetError with every mistake and its line
 */
export function readFleet(text: string, file: string): FleetWish {
  return readCheckedYaml(text, file, {
    form: fleetForm,
    schema: fleetSchema,
    make: checked => checked as FleetWish,
  });
}

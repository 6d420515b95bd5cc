import { showable } from '../../core/text/display.js';
import { counted } from '../../core/text/numbers.js';
import { sizeText } from '../../core/text/sizes.js';
import type { CollectResult } from '../../steps/handover/collect.js';
import type { OfferResult } from '../../steps/handover/offer.js';
import type { Colors } from '../show/outcome.js';

/** The ticket, with what to do with it. @param command that takes it */
export function showTicket(ticket: string, ends: Date, command: string, colors: Colors): string {
  return [
    colors.bold('The ticket; whoever has it gets the crate, so show it to nobody else:'),
    '',
    `  ${ticket}`,
    '',
    `  At the other end: able-porter ${command}`,
    colors.dim(
      `  It is good for one collector, until ${ends.toISOString().slice(0, 16).replace('T', ' ')} UTC`,
    ),
  ].join('\n');
}

export function showOffered({ bytes }: OfferResult, colors: Colors): string {
  return `${colors.green('Collected')}: the other end has all of the crate (${sizeText(bytes)}); the ticket is dead now`;
}

export function showCollected({ crate, manifest, bytes }: CollectResult, colors: Colors): string {
  const { counts, from, taken, note } = manifest;
  return [
    `${colors.green('Collected')}: ${counted(counts.files, 'file')} (${sizeText(counts.bytes)}), ${counted(counts.tables, 'table')} with ${counted(counts.rows, 'row')}`,
    `  of ${showable(from.address)}, taken ${showable(taken.slice(0, 10))}; all of it is what its checksums say`,
    `  in the crate ${crate} (${sizeText(bytes)} transferred)`,
    ...(note === undefined ? [] : [`  Its note: ${showable(note)}`]),
  ].join('\n');
}

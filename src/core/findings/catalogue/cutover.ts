import type { CatalogueEntry } from '../entry.js';

/** What the plan of a cutover, the switch and the watch find. */
export const cutoverFindings = {
  'dns-address-differs': {
    levels: ['warn'],
    meaning: 'The old name leads to another address than `dns.address-records` says.',
    remedy: 'Correct the sheet, or find out what is in front of the old host.',
  },
  'dns-alias': {
    levels: ['warn'],
    meaning: 'A name of the site is an alias (CNAME), which the plan replaces with addresses.',
    remedy: 'Make sure that nobody counts on the alias.',
  },
  'dns-alias-conflict': {
    levels: ['stop'],
    meaning: 'A name is an alias and has other records too.',
    remedy: 'Remove the alias or the other records.',
  },
  'dns-apex-alias': {
    levels: ['warn'],
    meaning: 'A name that cannot be an alias gets the present addresses of a host.',
    remedy: 'Use a record of your DNS provider that follows another name, or watch the addresses.',
  },
  'dns-caa': {
    levels: ['note'],
    meaning: 'A CAA record limits who may give out certificates.',
    remedy: 'Make sure that the new host’s certificate authority is among them.',
  },
  'dns-caa-forbids': {
    levels: ['stop'],
    meaning: 'A CAA record does not allow the certificate authority of the new host.',
    remedy: 'Add a CAA record for it.',
  },
  'dns-delegation-differs': {
    levels: ['warn'],
    meaning: 'The registrar names other servers of a zone than the zone itself.',
    remedy: 'Correct one of them.',
  },
  'dns-dkim-old-host': {
    levels: ['warn'],
    meaning: 'A DKIM key is kept by the old host.',
    remedy: 'Publish the key of whoever sends the mail from now on.',
  },
  'dns-dmarc-strict': {
    levels: ['warn'],
    meaning: 'Receivers are asked to refuse mail that is not allowed, and the new host is not allowed yet.',
    remedy: 'Add the new host to the SPF policy, or sign its mail.',
  },
  'dns-dname': {
    levels: ['stop'],
    meaning: 'A DNAME record sends a name of the site elsewhere.',
    remedy: 'Change the record at the name to which it leads.',
  },
  'dns-ds-stays': {
    levels: ['stop'],
    meaning: 'Name servers are to change, and the registrar has a DS record of the present keys.',
    remedy: 'Remove the DS record first, or take the keys along.',
  },
  'dns-hints': {
    levels: ['stop'],
    meaning: 'An HTTPS record names addresses of the old host.',
    remedy: 'Remove the hints from it before the cutover.',
  },
  'dns-ipv6-stays': {
    levels: ['warn'],
    meaning: 'An AAAA record leads to the present host, and the sheet names no new one.',
    remedy: 'Add the new host’s IPv6 address, or let the plan remove the record.',
  },
  'dns-mail-at-old-host': {
    levels: ['warn'],
    meaning: 'Mail is received at the old host.',
    remedy: 'Keep it there, or move the mailboxes, before the old host ends.',
  },
  'dns-mail-moves': {
    levels: ['stop', 'warn'],
    meaning: 'Mail is received at a name that moves to the new host.',
    remedy: 'Give the mail server a name of its own before the cutover.',
  },
  'dns-changed-meanwhile': {
    levels: ['stop'],
    meaning: 'A record set is not as the plan saw it, so nothing was changed.',
    remedy: 'Plan again.',
  },
  'dns-names-follow': {
    levels: ['warn'],
    meaning: 'Other names are aliases of one that moves, and move with it.',
    remedy: 'Give those that are to stay an address record of their own.',
  },
  'dns-new-name-in-use': {
    levels: ['warn'],
    meaning: 'The new name leads to another host already.',
    remedy: 'Make sure that nothing is served there that is still needed.',
  },
  'dns-no-address': {
    levels: ['warn', 'note'],
    meaning: 'No record leads from a name to a host.',
    remedy: 'Check `old.address`; the new one needs a record at the cutover.',
  },
  'dns-not-asked': {
    levels: ['note'],
    meaning: 'No resolver could be asked for a name.',
    remedy: 'Name one in `dns.resolvers`.',
  },
  'dns-other-names': {
    levels: ['warn'],
    meaning: 'Other names lead to the old host and stay there.',
    remedy: 'Find out what each is for before the old host ends.',
  },
  'dns-other-zone': {
    levels: ['stop', 'warn'],
    meaning: 'A name of the site is in a zone that was not read.',
    remedy: 'Name the zone file or the server of its zone.',
  },
  'dns-proxy': {
    levels: ['warn'],
    meaning: 'The old name leads to a proxy or another host, and not to the old host.',
    remedy: 'Change the address of the origin there.',
  },
  'dns-record-different': {
    levels: ['warn'],
    meaning: 'The new name servers have other records than the present ones.',
    remedy: 'Make sure that this is wanted.',
  },
  'dns-record-extra': {
    levels: ['note'],
    meaning: 'Only the new name servers have some records.',
    remedy: 'Remove what is not wanted.',
  },
  'dns-record-missing': {
    levels: ['stop'],
    meaning: 'The new name servers do not have a record of the present ones.',
    remedy: 'Add it there before the registrar names the new servers.',
  },
  'dns-serial-behind': {
    levels: ['stop'],
    meaning: 'The zone that was read is older than the one that its servers have.',
    remedy: 'Take the zone as the servers have it.',
  },
  'dns-server-behind': {
    levels: ['warn'],
    meaning: 'A name server has an older zone than the others.',
    remedy: 'Find out why it does not copy the zone.',
  },
  'dns-server-silent': {
    levels: ['warn'],
    meaning: 'A name server gives no answer for a zone.',
    remedy: 'Repair it or take it out of the zone.',
  },
  'dns-service-old-host': {
    levels: ['stop', 'warn'],
    meaning: 'A service (SRV) is at the old host, or at a name that moves.',
    remedy: 'Give it a name of its own, or move it.',
  },
  'dns-signatures-end': {
    levels: ['warn'],
    meaning: 'Signatures of a zone end before the cutover.',
    remedy: 'Make sure that the zone is signed anew by then.',
  },
  'dns-signatures-expired': {
    levels: ['stop'],
    meaning: 'Signatures of a zone have expired.',
    remedy: 'Have the zone signed anew.',
  },
  'dns-signed': {
    levels: ['note'],
    meaning: 'A zone is signed, and it is changed by hand or in a file.',
    remedy: 'Make sure that what you change is signed.',
  },
  'dns-signed-file': {
    levels: ['stop'],
    meaning: 'A zone file that is to be changed holds signatures.',
    remedy: 'Change the file that is signed, or use dynamic updates.',
  },
  'dns-spf-old-host': {
    levels: ['warn'],
    meaning: 'The SPF policy allows the old host to send mail.',
    remedy: 'Add the new host if the new site sends mail.',
  },
  'dns-spf-too-long': {
    levels: ['warn'],
    meaning: 'The SPF policy costs more look-ups than receivers allow.',
    remedy: 'Replace some of its names by their addresses.',
  },
  'dns-ttl-long': {
    levels: ['warn'],
    meaning: 'The TTL of a record that is to change is longer than an hour.',
    remedy: 'Set it to 300 seconds that long before the cutover.',
  },
  'dns-ttl-too-late': {
    levels: ['warn'],
    meaning: 'The present TTLs do not run out before `dns.when`.',
    remedy: 'Lower them now and move `dns.when`.',
  },
  'dns-wildcard': {
    levels: ['note'],
    meaning: 'A wildcard record answers for a name of the site.',
    remedy: 'Nothing needs to be done; the plan gives it records of its own.',
  },
  'freeze-failed': {
    levels: ['stop'],
    meaning: 'The old site could not be closed for what writes.',
    remedy: 'Set `dns.freeze: maintenance`, or close it in its own administration.',
  },
  'marker-not-served': {
    levels: ['warn'],
    meaning: 'A marker was put at an end, and its web server does not show it.',
    remedy: 'The watch then goes by addresses alone.',
  },
  'not-followed': {
    levels: ['stop'],
    meaning: 'Some resolvers still lead to the old host at the end of the watch.',
    remedy: 'Watch again; do not end the old host.',
  },
  'records-not-named': {
    levels: ['note'],
    meaning: 'The sheet names no address records, so no cutover was planned.',
    remedy: 'Add `dns.address-records`.',
  },
} as const satisfies Record<string, CatalogueEntry>;

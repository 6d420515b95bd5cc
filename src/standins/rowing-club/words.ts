/** What the made-up Saltmarsh Rowing Club writes about. Every name in it is invented. */

export const boats = [
  [
    'Curlew',
    'coxed four',
    'Pale blue, built of cedar in the winter of the long frost; she likes flat water and a patient cox.',
  ],
  [
    'Avocet',
    'double scull',
    'The boat that everybody learns in. Forgiving, a little heavy, and never in a hurry.',
  ],
  ['Sandpiper', 'single scull', 'Thirteen kilos of nerves. Ask before you take her out in a westerly.'],
  ['Redshank', 'quad', 'Our fastest hull over two kilometres, and the one with the most varnish.'],
  ['Old Marjoram', 'gig', 'Six oars, room for a picnic, and a hundred years of scratches.'],
  ['Dunlin', 'coxless pair', 'Needs two people who have forgiven each other.'],
  ['Turnstone', 'coastal quad', 'High in the bow, self-bailing, happy in a chop.'],
  ['Wigeon', 'training eight', 'Everyone fits. Nobody agrees on the rating.'],
] as const;

export const regattas = [
  ['Spring Head of the Creek', 'Twenty-two crews went off at half-minute intervals into a light northerly.'],
  ['Three Bridges Sprint', 'Six hundred metres, three bridges, one swan that would not move.'],
  ['Midsummer Night Row', 'We rowed from dusk to dusk’s end with lanterns on every bow.'],
  ['Estuary Marathon', 'Forty-two kilometres with the tide, eleven boats, no complaints worth printing.'],
  ['Veterans’ Cup', 'Combined age in the winning four: 251.'],
  ['Novice Regatta', 'Three crabs, two crashes, one winner, and a great deal of cake.'],
  ['Autumn Saltmarsh Fours', 'Fog until ten, then the kind of light that makes people join.'],
  ['Frostbite Head', 'The safety launch had icicles. Times are below, in order of courage.'],
  ['Ladies’ Plate on the Broad Reach', 'A clean start, a hard second half, and a canvas at the line.'],
  ['Junior Day', 'Forty children, eight boats, dry feet: none.'],
  ['Interclub Challenge with Fenwick Staithe', 'They won the races, we won the sandwiches.'],
  ['Closing Row', 'The last row before the boats are turned over for winter.'],
] as const;

export const tides = [
  'January',
  'February',
  'March',
  'April',
  'May',
  'June',
  'July',
  'August',
  'September',
  'October',
  'November',
  'December',
] as const;

export const members = [
  'Tamsin Oakshott',
  'Piet Averdieck',
  'Zoë Marchetti',
  'Łucja Brandt',
  'Ifor Pendry',
  'Søren Kvist',
] as const;

export const pages = [
  ['welcome', 'Welcome', 'A rowing club on a tidal creek, with mud when you want it least.'],
  ['join-us', 'Join us', 'Come on a Saturday at high water, in clothes that may get wet.'],
  ['our-boats', 'Our boats', 'Eight hulls and the stories that go with them.'],
  ['tide-tables', 'Tide tables', 'Heights at the boathouse steps, in metres above chart datum.'],
  ['safety', 'Safety on the water', 'Cold water, fast ebb, big ships: read this before you go out.'],
  ['boathouse', 'The boathouse', 'Built on piles, rebuilt after the flood, painted every second spring.'],
  ['history', 'History', 'From two ferrymen’s wagers to a hundred and forty members.'],
  ['committee', 'Committee', 'Who to ask about what.'],
  ['fees', 'Fees', 'Adults, students, and people who only come for the cake.'],
  ['contact', 'Contact', 'Write to us, ring the bell, or shout across the creek.'],
  ['gallery', 'Gallery', 'Mostly sunsets.'],
  ['learn-to-row', 'Learn to row', 'Six Saturdays from the first stroke to the first regatta.'],
  ['coaching', 'Coaching', 'One to one, or a crew at a time.'],
  ['hire', 'Hire the hall', 'Weddings, wakes and whist.'],
  ['privacy', 'Privacy', 'What we keep about you, which is little.'],
] as const;

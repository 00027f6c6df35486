import { expect, it } from 'vitest';
import { namedBy } from './Who';

const named = namedBy([
  { name: 'mara', display: 'Mara Selkirk' },
  { name: 'tomas', display: 'Tomas Brackwater' },
]);

it.each([
  ['mara', 'Mara Selkirk'],
  ['tomas, mara', 'Tomas Brackwater, Mara Selkirk'],
  ['an approver', 'an approver'],
  ['oikonom', 'oikonom'],
  ['mara-2', 'mara-2'],
])('shows %s as %s', (list, shown) => expect(named(list)).toBe(shown));

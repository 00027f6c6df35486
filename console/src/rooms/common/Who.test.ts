import { expect, it } from 'vitest';
import { namedBy, spelledBy } from './Who';

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

it.each([
  ['It waits for the line manager (mara).', 'It waits for the line manager (Mara Selkirk).'],
  ['Mara approves or declines it.', 'Mara Selkirk approves or declines it.'],
  ['An approver (mara, tomas) decides.', 'An approver (Mara Selkirk, Tomas Brackwater) decides.'],
  ['Then an operator releases it.', 'Then an operator releases it.'],
  ['', ''],
])('tells %s with names', (sentence, told) => expect(spelledBy(named, sentence)).toBe(told));

import { expect, test } from 'vitest';
import { count } from './count';

test('one is one, and everything else is many', () => {
  expect([count(1, 'change'), count(0, 'change'), count(2, 'person waits', 'people wait')]).toEqual([
    '1 change',
    '0 changes',
    '2 people wait',
  ]);
});

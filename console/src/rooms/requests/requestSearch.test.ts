import { expect, test } from 'vitest';
import { allRequests, readSearch, writeSearch } from './requestSearch';

test('a view of the list survives its address', () => {
  const view = { ...allRequests, state: 'deciding', text: 'o&k=1', late: true };
  expect(readSearch(Object.fromEntries(new URLSearchParams(writeSearch(view))))).toEqual(view);
  expect(writeSearch(allRequests)).toBe('');
});

test('what an address holds beyond the known is left out', () => {
  expect(readSearch({ state: '', late: 'no', text: 7, evil: 'x' })).toEqual({ ...allRequests, text: '7' });
});

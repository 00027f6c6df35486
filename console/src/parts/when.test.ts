import { describe, expect, it } from 'vitest';
import { ago, ahead, onDay } from './when';

describe('when', () => {
  it('shows a day as a day, whatever the time zone', () => expect(onDay('2026-11-02')).toBe('2 Nov 2026'));
  it.each([
    [20_000, 'just now'],
    [5 * 60_000, '5 min'],
    [3 * 3_600_000, '3 h'],
    [49 * 3_600_000, '2 d'],
  ])('tells %d ms ago in one unit', (ms, words) =>
    expect(ago(new Date(1_800_000_000_000 - ms).toISOString(), 1_800_000_000_000)).toBe(words),
  );
});

it('how long until something is due', () => {
  const now = Date.parse('2026-11-25T12:00:00Z');
  expect(ahead('2026-11-25T12:20:00Z', now)).toBe('in 20 min');
  expect(ahead('2026-11-26T12:00:00Z', now)).toBe('in 24 h');
  expect(ahead('2026-11-30T12:00:00Z', now)).toBe('in 5 d');
  expect(ahead('2026-11-25T11:59:00Z', now)).toBe('late');
});

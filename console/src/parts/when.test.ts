import { describe, expect, it } from 'vitest';
import { ago, onDay } from './when';

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

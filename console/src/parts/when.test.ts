import { describe, expect, it } from 'vitest';
import { ago, ahead, dayThere, moment, onDay } from './when';

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

describe('an instant that a rule about days made', () => {
  const lisbon = { zone: 'Europe/Lisbon', title: 'Harbour House' };
  it('is the day that begins there, in summer and in winter', () => {
    expect(dayThere('2027-06-01T23:00:00Z', 'Europe/Lisbon', 'begin')).toBe('2027-06-02');
    expect(dayThere('2027-01-05T00:00:00Z', 'Europe/Lisbon', 'begin')).toBe('2027-01-05');
    expect(dayThere('2027-01-05T13:00:00Z', 'Australia/Hobart', 'begin')).toBe('2027-01-06');
  });
  it('is, as an end, the last day before it', () => {
    expect(moment('2027-05-31T23:00:00Z', lisbon, 'end')).toBe('31 May 2027, Harbour House');
    expect(dayThere('2027-01-01T04:00:00Z', 'America/Halifax', 'end')).toBe('2026-12-31');
  });
  it('stays an instant when it is no midnight there, or the place is not known', () => {
    expect(dayThere('2027-05-31T22:00:00Z', 'Europe/Lisbon', 'end')).toBeUndefined();
    expect(moment('2027-05-31T23:00:00Z', undefined, 'end')).toMatch(/2027/);
  });
});

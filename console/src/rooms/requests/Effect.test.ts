import { describe, expect, it } from 'vitest';
import type { Schemas } from '../../api/client';
import { termOf, together } from './Effect';

const line = (over: Partial<Schemas['EffectLine']>): Schemas['EffectLine'] => ({
  key: 'directory/all-people',
  title: 'All people',
  target: 'directory',
  privileged: false,
  from: null,
  until: null,
  why: 'Everyone: always',
  attributes: [],
  ...over,
});
const harbour = { zone: 'Europe/Amsterdam', title: 'Harbour House' };

describe('when a line begins and ends', () => {
  it('tells the days of the place', () =>
    expect(termOf(line({ from: '2026-11-30T23:00:00Z', until: '2027-05-31T22:00:00Z' }), 'gained', harbour)).toBe(
      'from 1 Dec 2026, until 31 May 2027',
    ));
  it('takes away at the end of a day', () =>
    expect(termOf(line({ from: '2027-05-31T22:00:00Z' }), 'lost', harbour)).toBe('at the end of 31 May 2027'));
  it('says nothing where it begins with the request and has no end', () => expect(termOf(line({}), 'kept', harbour)).toBe(''));
});

describe('lines of the same term and reason', () => {
  it('are told together', () =>
    expect(together([line({}), line({ key: 'directory/site', title: 'Site' }), line({ key: 'directory/lab', why: 'asked for' })])).toEqual([
      [line({}), line({ key: 'directory/site', title: 'Site' })],
      [line({ key: 'directory/lab', why: 'asked for' })],
    ]));
  it('stand alone where attributes change', () => {
    const attributes = [{ name: 'title', before: ['Diver'], after: ['Keeper'] }];
    expect(together([line({ attributes }), line({ key: 'mail', attributes })])).toHaveLength(2);
  });
});

import { expect, test } from 'vitest';
import { askingOf, bodyOf, nothingAsked } from './asking';

test('only what belongs to the kind is sent', () => {
  const all = {
    ...nothingAsked,
    person: 'E1',
    record: { title: 'Diver', phone: ' ' },
    entitlements: ['d/x'],
    until: '2027-01-31',
    lastDay: '2026-12-31',
    target: 'd',
  };
  expect(bodyOf({ ...all, kind: 'joiner' })).toMatchObject({ person: null, record: { title: 'Diver' }, grants: null, lastDay: null });
  expect(bodyOf({ ...all, kind: 'access' })).toMatchObject({
    person: 'E1',
    record: null,
    grants: [{ entitlement: 'd/x', from: null, until: '2027-01-31' }],
  });
  expect(bodyOf({ ...all, kind: 'leaver' })).toMatchObject({ lastDay: '2026-12-31', urgent: null });
  expect(bodyOf({ ...all, kind: 'leaver', urgent: true })).toMatchObject({ lastDay: null, urgent: true });
  expect(bodyOf({ ...all, kind: 'mover' }).record).toEqual({ title: 'Diver', phone: ' ' });
});

test('a kept body fills the form again', () => {
  const asking = { ...nothingAsked, kind: 'access' as const, person: 'E1', reason: 'r', entitlements: ['d/x', 'd/y'], until: '2027-01-31' };
  expect(askingOf(bodyOf(asking))).toEqual(asking);
});

import { expect, test } from 'vitest';
import { askingOf, bodyOf, isTouched, nothingAsked } from './asking';
import { choicesOf, type FieldSchema, insteadOf } from './schema';

const day: FieldSchema = { title: 'Day', 'x-pick': 'day' };
const joiner: FieldSchema = { properties: { kind: {}, record: {}, reason: {} } };
const mover: FieldSchema = { properties: { kind: {}, person: {}, record: {}, from: day, reason: {} } };
const access: FieldSchema = {
  properties: { kind: {}, person: {}, grants: { items: { properties: { entitlement: {}, from: day, until: day } } }, reason: {} },
};
const leaver: FieldSchema = {
  properties: { kind: {}, person: {}, lastDay: day, urgent: { type: 'boolean' }, reason: {} },
  anyOf: [{ required: ['lastDay'] }, { required: ['urgent'] }],
};
const extension: FieldSchema = {
  properties: { kind: {}, person: {}, grants: access.properties?.grants ?? {}, record: { properties: { end: day } }, reason: {} },
  oneOf: [{ required: ['grants'] }, { required: ['record'] }],
};

const all = {
  ...nothingAsked,
  record: { title: 'Diver', phone: ' ' },
  entitlements: ['d/x'],
  values: { person: 'E1', until: '2027-01-31', lastDay: '2026-12-31', target: 'd', reason: ' r ' },
};

test('only what belongs to the kind is sent', () => {
  expect(bodyOf({ ...all, kind: 'joiner' }, joiner)).toMatchObject({
    person: null,
    record: { title: 'Diver' },
    grants: null,
    lastDay: null,
    reason: 'r',
  });
  expect(bodyOf({ ...all, kind: 'access' }, access)).toMatchObject({
    person: 'E1',
    record: null,
    until: null,
    grants: [{ entitlement: 'd/x', from: null, until: '2027-01-31' }],
  });
  expect(bodyOf({ ...all, kind: 'mover' }, mover).record).toEqual({ title: 'Diver', phone: ' ' });
});

test('of two ways one is sent', () => {
  expect(bodyOf({ ...all, kind: 'leaver' }, leaver)).toMatchObject({ lastDay: '2026-12-31', urgent: null });
  expect(bodyOf({ ...all, kind: 'leaver', urgent: true }, leaver)).toMatchObject({ lastDay: null, urgent: true });
  expect(bodyOf({ ...all, kind: 'extension', record: {} }, extension)).toMatchObject({ record: null });
  expect(bodyOf({ ...all, kind: 'extension', record: { end: '2027-03-31' }, entitlements: [] }, extension)).toMatchObject({
    record: { end: '2027-03-31' },
    grants: null,
  });
  expect(insteadOf(leaver, 'urgent')).toEqual(['lastDay']);
  expect(insteadOf(leaver, 'reason')).toEqual([]);
});

test('a kept body fills the form again', () => {
  const asking = {
    ...nothingAsked,
    kind: 'access',
    entitlements: ['d/x', 'd/y'],
    values: { person: 'E1', reason: 'r', until: '2027-01-31' },
  };
  expect(askingOf(bodyOf(asking, access))).toEqual(asking);
});

test('choices are told by what people read', () => {
  expect(choicesOf({ oneOf: [{ const: 'harbour', title: 'Harbour House' }] })).toEqual([['harbour', 'Harbour House']]);
  expect(choicesOf({ enum: ['true', 'false', ''] })).toEqual([
    ['true', 'true'],
    ['false', 'false'],
  ]);
  expect(choicesOf({ type: 'string' })).toBeNull();
  expect(isTouched(nothingAsked)).toBe(false);
  expect(isTouched(all)).toBe(true);
});

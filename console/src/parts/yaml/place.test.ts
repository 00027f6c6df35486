import { expect, test } from 'vitest';
import { placeOf } from './place';

const at = (text: string) => {
  const place = placeOf(text);
  return place && `${place.path.join('.')} ${place.what} ${place.word}`.trim();
};

test.each([
  ['', 'key'],
  ['na', 'key na'],
  ['name: x\nti', 'key ti'],
  ['kind: ld', 'kind value ld'],
  ['sign-in:\n  se', 'sign-in key se'],
  ['grants:\n  - t', 'grants.[] key t'],
  ['grants:\n  - to: directory/d', 'grants.[].to value directory/d'],
  ['grants:\n  - to: a/b\n    wh', 'grants.[] key wh'],
  ['grants:\n  - to: a/b\n  - u', 'grants.[] key u'],
  ['grants:\n- to: a/b\n- u', 'grants.[] key u'],
  ['grants:\n- to: a/b\n  when: x\nna', 'key na'],
  ['stages:\n  - name: a\n    reminders:\n      - after: P1D\n        to', 'stages.[].reminders.[] key to'],
  ['for: [joiner, mo', 'for.[] key mo'],
  ['entitlements:\n  divers: { title: Dive, ow', 'entitlements.divers key ow'],
  ['entitlements:\n  divers: { title: Dive, privileged: y', 'entitlements.divers.privileged value y'],
  ['entitlements:\n  "x y": { title: "a, b", ow', 'entitlements.x y key ow'],
  ['# a note\n\nsites:\n  # another\n  harbour:\n    zo', 'sites.harbour key zo'],
])('%j is at %s', (text, place) => {
  expect(at(text)).toBe(place);
});

test('a note is no place', () => {
  expect(placeOf('name: x # th')).toBeNull();
  expect(at("when: 'a # b' == st")).toContain('when');
});

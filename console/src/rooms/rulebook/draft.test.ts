// @vitest-environment jsdom
import { act, cleanup, renderHook } from '@testing-library/react';
import { afterEach, beforeEach, expect, test } from 'vitest';
import { near } from './DiffView';
import { isChanged, useDraft } from './draft';

const published = [
  { path: 'templates/a.yaml', text: 'name: a' },
  { path: 'rulebook.yaml', text: 'name: x' },
];
beforeEach(() => localStorage.clear());
afterEach(cleanup);

test('a draft is kept over the edition it began with, and a newer edition begins anew', () => {
  const first = renderHook(() => useDraft(published, 'one'));
  act(() => first.result.current.change('rulebook.yaml', 'name: y'));
  first.unmount();
  expect(renderHook(() => useDraft(published, 'one')).result.current.files.find((f) => f.path === 'rulebook.yaml')?.text).toBe('name: y');
  expect(renderHook(() => useDraft(published, 'two')).result.current.files.find((f) => f.path === 'rulebook.yaml')?.text).toBe('name: x');
});

test('a draft that is as published is not kept', () => {
  const hook = renderHook(() => useDraft(published, 'one'));
  act(() => hook.result.current.add('pools/p.yaml'));
  expect(localStorage.length).toBe(1);
  act(() => hook.result.current.reset());
  expect(localStorage.length).toBe(0);
  expect(hook.result.current.files.some((f) => isChanged(published, f))).toBe(false);
});

test('changed lines are shown with two around them', () => {
  const lines = 'ssssNssssssG'.split('').map((c, i) => ({ op: c === 's' ? 'same' : c === 'N' ? 'new' : 'gone', i }));
  expect(near(lines).map((l) => l?.i ?? '-')).toEqual([2, 3, 4, 5, 6, '-', 9, 10, 11]);
});

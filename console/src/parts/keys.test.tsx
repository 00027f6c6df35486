// @vitest-environment jsdom
import { cleanup, fireEvent, render } from '@testing-library/react';
import { afterEach, beforeEach, expect, test, vi } from 'vitest';
import { type Key, keysHere, useKeyboard, useKeys } from './keys';

const went = vi.fn();
const released = vi.fn();

function Part({ keys }: { keys: Key[] }) {
  useKeys(keys);
  return null;
}

/** A page that releases by r, inside a frame with the keys that go places. */
function Frame({ page = [] }: { page?: Key[] }) {
  useKeyboard();
  useKeys([{ key: 'g r', what: 'Requests', run: went }]);
  return (
    <>
      <Part keys={[{ key: 'r', what: 'Release', run: () => released() }]} />
      <Part keys={page} />
      <input aria-label="field" />
      <div contentEditable="true" suppressContentEditableWarning data-testid="editor" />
    </>
  );
}

const press = (key: string, at: Element = document.body) => fireEvent.keyDown(at, { key });

beforeEach(() => vi.clearAllMocks());
afterEach(cleanup);

test('the second key of a pair is nobody else’s', () => {
  render(<Frame />);
  press('g');
  press('r');
  expect(went).toHaveBeenCalledTimes(1);
  expect(released).not.toHaveBeenCalled();
});

test('a key alone is the page’s own, and what comes latest has it first', () => {
  const mine = vi.fn(() => true);
  const { rerender } = render(<Frame />);
  press('r');
  expect(released).toHaveBeenCalledTimes(1);
  rerender(<Frame page={[{ key: 'r', what: 'Mine', run: mine }]} />);
  press('r');
  expect(mine).toHaveBeenCalledTimes(1);
  expect(released).toHaveBeenCalledTimes(1);
});

test('a key with nothing to do is offered to whoever came before', () => {
  render(<Frame page={[{ key: 'r', what: 'Mine', run: () => false }]} />);
  press('r');
  expect(released).toHaveBeenCalledTimes(1);
});

test('what is typed into a field or the editor is no key', () => {
  const { container, getByLabelText, getByTestId } = render(<Frame />);
  press('r', getByLabelText('field'));
  press('r', getByTestId('editor'));
  fireEvent.keyDown(container, { key: 'r', ctrlKey: true });
  expect(released).not.toHaveBeenCalled();
});

test('keys end with what gave them, and are told in order', () => {
  const { unmount } = render(<Frame />);
  expect(keysHere().map((k) => k.key)).toEqual(['r', 'g r']);
  unmount();
  expect(keysHere()).toEqual([]);
});

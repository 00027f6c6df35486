// @vitest-environment jsdom
import { cleanup, fireEvent, render, screen } from '@testing-library/react';
import { afterEach, expect, test, vi } from 'vitest';
import { pieces, YamlEditor } from './YamlEditor';

afterEach(cleanup);

test.each([
  'name: divers',
  '  - to: directory/dive-team # the divers',
  'when: \'a == "b"\'',
  '# only a note',
  '',
  'just words',
  '"quoted key": x',
])('the pieces of a line make the line again: %s', (line) => {
  expect(
    pieces(line)
      .map((p) => p[1])
      .join(''),
  ).toBe(line);
});

test('keys, texts and notes are told apart', () => {
  expect(pieces("when: 'x' # why").map((p) => p[0])).toEqual(['key', 'text', 'note']);
  expect(pieces('  - to: a/b').map((p) => p[0])).toEqual(['plain', 'key', 'plain']);
});

test('what is wrong is listed and leads to its place', () => {
  const change = vi.fn();
  render(
    <YamlEditor
      label="Text"
      value={'name: a\nwhen: b'}
      marks={[{ line: 2, column: 7, message: 'no such name', grave: true }]}
      onChange={change}
    />,
  );
  const field = screen.getByLabelText<HTMLTextAreaElement>('Text');
  fireEvent.click(screen.getByRole('button', { name: 'Error, line 2' }));
  expect(field.selectionStart).toBe(14);
  fireEvent.change(field, { target: { value: 'name: c' } });
  expect(change).toHaveBeenCalledWith('name: c');
});

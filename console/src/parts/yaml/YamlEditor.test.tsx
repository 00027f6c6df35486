// @vitest-environment jsdom
import { CompletionContext } from '@codemirror/autocomplete';
import { EditorState } from '@codemirror/state';
import { EditorView } from '@codemirror/view';
import { cleanup, fireEvent, render, screen } from '@testing-library/react';
import { afterEach, beforeAll, expect, test, vi } from 'vitest';
import { knownOf } from './known';
import { offer, YamlEditor } from './YamlEditor';

const known = knownOf([
  {
    path: 'targets/a.yaml',
    text: 'name: directory\nentitlements:\n  # a note\n  divers: { title: Dive }\n  lab:\n    title: Lab\nlast: x\n',
  },
  { path: 'sources/hr.yaml', text: 'name: hr\nmapping:\n  given: row.given\n  site: row.site\n' },
  { path: 'templates/t.yaml', text: 'name: t' },
]);

// The editor measures its text; without a page there is nothing to measure.
beforeAll(() => {
  Range.prototype.getClientRects = () => [] as unknown as DOMRectList;
  Range.prototype.getBoundingClientRect = () => new DOMRect();
});
afterEach(cleanup);

const labels = (path: string, text: string, explicit = true) => {
  const state = EditorState.create({ doc: text });
  return offer(path, known)(new CompletionContext(state, text.length, explicit))?.options.map((o) => o.label) ?? [];
};

test('names of the draft are read from its documents', () => {
  expect(known).toEqual({ entitlements: ['directory/divers', 'directory/lab'], attributes: ['given', 'site'] });
});

test('keys, values, entitlements and what expressions know are offered', () => {
  expect(labels('templates/t.yaml', 'grants:\n  - ')).toEqual(expect.arrayContaining(['to', 'when']));
  expect(labels('templates/t.yaml', 'grants:\n  - to: dir', false)).toEqual(['directory/divers', 'directory/lab']);
  expect(labels('templates/t.yaml', 'when: si')).toEqual(expect.arrayContaining(['site', 'size']));
  expect(labels('workflows/w.yaml', 'for: [jo')).toContain('joiner');
  expect(labels('templates/t.yaml', 'title: si')).toEqual([]);
  expect(labels('templates/t.yaml', 'grants:\n  - ', false)).toEqual([]);
});

test('what is wrong is listed and leads to its place, and a change is told', () => {
  const change = vi.fn();
  const marks = [{ line: 2, column: 7, message: 'no such name', grave: true }];
  const { container } = render(
    <YamlEditor path="templates/t.yaml" label="Text" value={'name: a\nwhen: b'} marks={marks} known={known} onChange={change} />,
  );
  const view = EditorView.findFromDOM(container.querySelector<HTMLElement>('.cm-editor') as HTMLElement);
  fireEvent.click(screen.getByRole('button', { name: 'Error, line 2' }));
  expect(view?.state.selection.main.head).toBe(14);
  view?.dispatch({ changes: { from: 14, to: 15, insert: 'c' } });
  expect(change).toHaveBeenCalledWith('name: a\nwhen: c');
});

test('a text given from outside takes the place of the old one', () => {
  const props = { path: 'templates/t.yaml', label: 'Text', marks: [], known, onChange: () => {} };
  const { rerender } = render(<YamlEditor {...props} value="name: a" />);
  rerender(<YamlEditor {...props} value="name: b" />);
  expect(screen.getByLabelText('Text').textContent).toBe('name: b');
});

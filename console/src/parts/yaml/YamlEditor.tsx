import {
  autocompletion,
  type Completion,
  type CompletionContext,
  type CompletionResult,
  closeBrackets,
  completionKeymap,
} from '@codemirror/autocomplete';
import { defaultKeymap, history, historyKeymap } from '@codemirror/commands';
import { yaml } from '@codemirror/lang-yaml';
import { bracketMatching, codeFolding, foldGutter, foldKeymap, HighlightStyle, indentUnit, syntaxHighlighting } from '@codemirror/language';
import { type Diagnostic, lintGutter, lintKeymap, setDiagnostics } from '@codemirror/lint';
import { highlightSelectionMatches, search, searchKeymap } from '@codemirror/search';
import { EditorState } from '@codemirror/state';
import { drawSelection, EditorView, highlightActiveLine, hoverTooltip, keymap, lineNumbers } from '@codemirror/view';
import { tags } from '@lezer/highlight';
import { useEffect, useRef } from 'react';
import { type Known, knownHere } from './known';
import { placeOf } from './place';
import { isExpression, keysAt, meaningAt, schemaOf, valuesAt } from './schemas';
import style from './YamlEditor.module.css';

export interface Mark {
  line: number;
  column: number;
  message: string;
  grave: boolean;
}

/** The page's word for styles that scripts make; the policy lets no other in. */
const nonce = () => document.querySelector<HTMLMetaElement>('meta[name=style-nonce]')?.content ?? '';

const colours = HighlightStyle.define([
  { tag: [tags.propertyName, tags.definition(tags.propertyName)], color: 'var(--sea)' },
  { tag: [tags.string, tags.special(tags.string)], color: 'var(--good)' },
  { tag: [tags.comment, tags.lineComment], color: 'var(--soft)', fontStyle: 'italic' },
  { tag: [tags.punctuation, tags.separator, tags.squareBracket, tags.brace], color: 'var(--soft)' },
]);

/** Keys and values that may stand where the cursor is. */
export function offer(path: string, known: Known) {
  const schema = schemaOf(path);
  return (context: CompletionContext): CompletionResult | null => {
    const place = placeOf(context.state.sliceDoc(0, context.pos));
    if (!place || (place.word === '' && !context.explicit)) return null;
    const last = place.path.findLast((step) => step !== '[]') ?? '';
    const values = (): Completion[] => [
      ...valuesAt(schema, place.path).map((label) => ({ label, type: 'enum' })),
      ...knownHere(known, last, isExpression(schema, place.path)),
    ];
    const keys = (): Completion[] =>
      keysAt(schema, place.path).map(([label, s]) => ({ label, type: 'property', info: s.description, apply: `${label}: ` }));
    const options = place.what === 'value' ? values() : [...keys(), ...(place.path.at(-1) === '[]' ? values() : [])];
    if (options.length === 0) return null;
    return { from: context.pos - place.word.length, options, validFor: /^[\w./:-]*$/ };
  };
}

/** What the key under the pointer means. */
const meanings = (path: string) =>
  hoverTooltip((view, at) => {
    const line = view.state.doc.lineAt(at);
    const word = /[\w-]+(?=\s*:(\s|$))/g;
    for (const found of line.text.matchAll(word)) {
      const [from, to] = [line.from + found.index, line.from + found.index + found[0].length];
      if (at < from || at > to) continue;
      const place = placeOf(view.state.sliceDoc(0, to));
      const says = place && meaningAt(schemaOf(path), [...place.path, found[0]]);
      if (!says) return null;
      return {
        pos: from,
        end: to,
        above: true,
        create: () => {
          const dom = document.createElement('div');
          dom.className = style.meaning ?? '';
          dom.textContent = says;
          return { dom };
        },
      };
    }
    return null;
  });

/** A mark's place in the text; a place that is there no more is the end of it. */
function placed(state: EditorState, mark: Mark): Diagnostic {
  const line = state.doc.line(Math.min(Math.max(mark.line, 1), state.doc.lines));
  const from = Math.min(line.from + Math.max(mark.column - 1, 0), line.to);
  const word = state.doc.sliceString(from, line.to).match(/^[^\s,\]})]+/)?.[0].length ?? 0;
  return { from, to: from + word, severity: mark.grave ? 'error' : 'warning', message: mark.message };
}

/**
 * A field for one document: coloured, folded, searched (Ctrl F), undone (Ctrl Z), with keys and values offered from the
 * schemas (Ctrl Space) and their meaning under the pointer; what is wrong is marked where it stands and listed below.
 * Tab leaves the field as everywhere; Ctrl and a bracket indent.
 */
export function YamlEditor(props: {
  path: string;
  label: string;
  value: string;
  marks: Mark[];
  known: Known;
  onChange: (value: string) => void;
}) {
  const host = useRef<HTMLDivElement>(null);
  const view = useRef<EditorView>(null);
  const latest = useRef(props);
  latest.current = props;

  useEffect(() => {
    const { path, label, value } = latest.current;
    const made = new EditorView({
      parent: host.current ?? undefined,
      state: EditorState.create({
        doc: value,
        extensions: [
          EditorView.cspNonce.of(nonce()),
          lineNumbers(),
          codeFolding(),
          foldGutter(),
          lintGutter(),
          history(),
          drawSelection(),
          highlightActiveLine(),
          highlightSelectionMatches(),
          bracketMatching(),
          closeBrackets(),
          search({ top: true }),
          yaml(),
          indentUnit.of('  '),
          syntaxHighlighting(colours),
          autocompletion({ icons: false, override: [(context) => offer(path, latest.current.known)(context)] }),
          meanings(path),
          keymap.of([...completionKeymap, ...searchKeymap, ...historyKeymap, ...foldKeymap, ...lintKeymap, ...defaultKeymap]),
          EditorView.contentAttributes.of({ 'aria-label': label, tabindex: '0', spellcheck: 'false', autocapitalize: 'off' }),
          EditorView.updateListener.of((update) => {
            if (update.docChanged) latest.current.onChange(update.state.doc.toString());
          }),
        ],
      }),
    });
    view.current = made;
    return () => made.destroy();
  }, []);

  useEffect(() => {
    const at = view.current;
    if (at && at.state.doc.toString() !== props.value) at.dispatch({ changes: { from: 0, to: at.state.doc.length, insert: props.value } });
  }, [props.value]);

  useEffect(() => {
    const at = view.current;
    if (at)
      at.dispatch(
        setDiagnostics(
          at.state,
          props.marks.map((mark) => placed(at.state, mark)),
        ),
      );
  }, [props.marks]);

  const goTo = (mark: Mark) => {
    const at = view.current;
    if (!at) return;
    at.focus();
    at.dispatch({ selection: { anchor: placed(at.state, mark).from }, scrollIntoView: true });
  };

  return (
    <div className={style.editor}>
      <div className={style.paper} ref={host} />
      <ul className={style.marks} aria-label="What is wrong">
        {props.marks.map((m) => (
          <li key={`${m.line}:${m.column}:${m.message}`} className={m.grave ? style.bad : style.warm}>
            <button type="button" onClick={() => goTo(m)}>
              {m.grave ? 'Error' : 'Warning'}, line {m.line}
            </button>{' '}
            {m.message}
          </li>
        ))}
      </ul>
    </div>
  );
}

import { type KeyboardEvent, useId, useMemo, useRef } from 'react';
import style from './YamlEditor.module.css';

export interface Mark {
  line: number;
  column: number;
  message: string;
  grave: boolean;
}

/** One token of a line: what it is, and its text. */
export type Piece = ['key' | 'text' | 'note' | 'plain', string];

/** Divides a line of YAML into what is drawn alike. */
export function pieces(line: string): Piece[] {
  const note = line.match(/(^|\s)#.*$/);
  const body = note ? line.slice(0, note.index) : line;
  const rest: Piece[] = note ? [['note', line.slice(note.index)]] : [];
  const key = body.match(/^(\s*(?:- )*)([\w.-]+|"[^"]*")(:)(?=\s|$)/);
  if (!key) return body ? [['plain', body], ...rest] : rest;
  const value = body.slice(key[0].length);
  return [['plain', key[1] ?? ''], ['key', `${key[2]}${key[3]}`], [/^\s*['"]/.test(value) ? 'text' : 'plain', value], ...rest].filter(
    (p): p is Piece => (p[1]?.length ?? 0) > 0,
  );
}

/** A field for YAML: numbered lines, what is wrong marked where it stands, and read out below. */
export function YamlEditor(props: { label: string; value: string; marks: Mark[]; onChange?: (value: string) => void }) {
  const id = useId();
  const field = useRef<HTMLTextAreaElement>(null);
  const lines = useMemo(() => props.value.split('\n'), [props.value]);
  const marks = useMemo(() => new Map(props.marks.map((m) => [m.line, m])), [props.marks]);

  const tab = (event: KeyboardEvent<HTMLTextAreaElement>) => {
    // Tab leaves the field, as everywhere; two blanks are typed with Ctrl and the bracket.
    if (!props.onChange || !(event.ctrlKey && event.key === ']')) return;
    event.preventDefault();
    const at = event.currentTarget;
    at.setRangeText('  ', at.selectionStart, at.selectionEnd, 'end');
    props.onChange(at.value);
  };
  const goTo = (mark: Mark) => {
    const at = field.current;
    if (!at) return;
    const start = lines.slice(0, mark.line - 1).reduce((sum, l) => sum + l.length + 1, 0) + mark.column - 1;
    at.focus();
    at.setSelectionRange(start, start);
  };

  return (
    <div className={style.editor}>
      <div className={style.paper}>
        <div className={style.lines} aria-hidden="true">
          {lines.map((line, i) => {
            const mark = marks.get(i + 1);
            return (
              // biome-ignore lint/suspicious/noArrayIndexKey: a line is its place
              <div key={i} className={mark ? (mark.grave ? style.bad : style.warm) : undefined} title={mark?.message}>
                <b>{mark ? (mark.grave ? '\u2717' : '!') : ''}</b>
                <i>{i + 1}</i>
                <span>
                  {pieces(line).map(([kind, text], at) => (
                    // biome-ignore lint/suspicious/noArrayIndexKey: a piece is its place
                    <span key={at} className={style[kind]}>
                      {text}
                    </span>
                  ))}
                </span>
              </div>
            );
          })}
        </div>
        <label htmlFor={id} className="unseen">
          {props.label}
        </label>
        <textarea
          id={id}
          ref={field}
          spellCheck={false}
          autoCapitalize="off"
          wrap="off"
          value={props.value}
          readOnly={!props.onChange}
          rows={lines.length + 1}
          aria-describedby={`${id}-marks`}
          onKeyDown={tab}
          onChange={(event) => props.onChange?.(event.target.value)}
        />
      </div>
      <ul id={`${id}-marks`} className={style.marks}>
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

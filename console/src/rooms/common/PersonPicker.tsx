import { useQuery } from '@tanstack/react-query';
import { type ReactNode, useDeferredValue, useState } from 'react';
import { api, ask } from '../../api/client';
import { Button } from '../../parts/Button';
import style from '../requests/NewRequest.module.css';
import rooms from './Rooms.module.css';
import { useWords } from './words';

export function Seek({ id, hint, text, onChange }: { id: string; hint: string; text: string; onChange: (text: string) => void }) {
  return <input id={id} type="search" placeholder={hint} autoComplete="off" value={text} onChange={(e) => onChange(e.target.value)} />;
}

/** What was chosen, and the cross that lets go of it. */
export function Chosen({ drop, onDrop, children }: { drop: string; onDrop: () => void; children: ReactNode }) {
  return (
    <li>
      {children}
      <Button kind="quiet" aria-label={drop} onPress={onDrop}>
        ×
      </Button>
    </li>
  );
}

/** What was found while typing; a press chooses one. */
export function Options<T>({
  label,
  none,
  found,
  keyOf,
  choose,
  children,
}: {
  label: string;
  none: string;
  found: T[];
  keyOf: (one: T) => string;
  choose: (one: T) => void;
  children: (one: T) => ReactNode;
}) {
  return (
    <ul className={style.options} aria-label={label}>
      {found.length === 0 && <li className={rooms.quiet}>{none}</li>}
      {found.map((one) => (
        <li key={keyOf(one)}>
          <button type="button" onClick={() => choose(one)}>
            {children(one)}
          </button>
        </li>
      ))}
    </ul>
  );
}

/** Finds a person by a part of the name or by number while typing; holds the employee number. */
export function PersonPicker({ id, value, onChange }: { id: string; value: string; onChange: (number: string) => void }) {
  const [text, setText] = useState('');
  const words = useWords();
  const sought = useDeferredValue(text);
  const found = useQuery({
    queryKey: ['people', 'seek', sought],
    queryFn: () => ask(api.GET('/api/v1/people', { params: { query: { text: sought, limit: 8 } } })),
    enabled: sought.length > 1,
  });
  const person = useQuery({
    meta: { what: 'The person' },
    queryKey: ['people', 'one', value],
    queryFn: () => ask(api.GET('/api/v1/people/{id}', { params: { path: { id: value } } })),
    enabled: value.length > 0,
    retry: false,
  });
  if (value)
    return (
      <ul className={style.chosen}>
        <Chosen drop="Somebody else" onDrop={() => onChange('')}>
          {person.data ? `${person.data.name} (${person.data.number}), ${person.data.title}, ${person.data.department}` : value}
        </Chosen>
      </ul>
    );
  return (
    <>
      <Seek id={id} hint="Name or employee number" text={text} onChange={setText} />
      {found.isError && <small role="alert">{found.error.message}</small>}
      {sought.length > 1 && found.data && (
        <Options
          label="People found"
          none="Nobody is called that."
          found={found.data.items}
          keyOf={(p) => p.id}
          choose={(p) => {
            onChange(p.number);
            setText('');
          }}
        >
          {(p) => (
            <>
              {p.name}
              <small>
                {p.number} · {p.title}, {p.department}, {words.place(p.site)?.title ?? p.site}
              </small>
            </>
          )}
        </Options>
      )}
    </>
  );
}

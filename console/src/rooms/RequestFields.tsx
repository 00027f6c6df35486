import { type ReactNode, useId, useState } from 'react';
import type { Schemas } from '../api/client';
import type { Asking } from './asking';
import style from './NewRequest.module.css';
import { Chosen, Options, PersonPicker, Seek } from './PersonPicker';
import rooms from './Rooms.module.css';

const joinerFields = [
  'given',
  'family',
  'start',
  'end',
  'kind',
  'site',
  'department',
  'title',
  'manager',
  'phone',
  'privateMail',
  'number',
];
const moverFields = ['department', 'site', 'title', 'manager', 'kind', 'costCentre'];
export type Problems = Schemas['FieldProblem'][];

/** The fields of each kind of request; those of a record come from the catalogue. */
export function Fields({
  asking,
  set,
  catalogue,
  problems,
  open,
}: {
  asking: Asking;
  set: (change: Partial<Asking>) => void;
  catalogue: Schemas['Catalogue'] | undefined;
  problems: Problems;
  open: Schemas['OpenField'][];
}) {
  const { kind } = asking;
  const wrong = (field: string) => problems.find((p) => p.field === field)?.message;
  const attribute = (name: string) => (
    <Attribute
      key={name}
      name={name}
      value={asking.record[name] ?? ''}
      problem={asking.record[name] === undefined && kind !== 'joiner' ? undefined : wrong(name)}
      catalogue={catalogue}
      onChange={(value) => set({ record: { ...asking.record, [name]: value } })}
    />
  );
  const own =
    catalogue?.attributes.map((a) => a.name).filter((n) => !joinerFields.includes(n) && n !== 'person' && n !== 'costCentre') ?? [];
  const asked = open.map((o) => o.name).filter((n) => !joinerFields.includes(n));
  if (kind === 'joiner') return <>{[...joinerFields, ...new Set([...asked, ...own])].map(attribute)}</>;
  return (
    <>
      <Line label="For whom *" wide problem={asking.person ? wrong('person') : undefined}>
        {(id) => <PersonPicker id={id} value={asking.person} onChange={(person) => set({ person })} />}
      </Line>
      {(kind === 'mover' || kind === 'change') &&
        [
          ...(kind === 'mover' ? moverFields : ['given', 'family', 'phone', 'privateMail', 'end', 'title', 'costCentre', ...own]),
          ...asked,
        ].map(attribute)}
      {(kind === 'access' || kind === 'extension') && (
        <Entitlements
          chosen={asking.entitlements}
          catalogue={catalogue}
          onChange={(entitlements) => set({ entitlements })}
          problem={wrong('grants')}
        />
      )}
      {kind === 'account' && (
        <Line label="What" problem={wrong('template')} wide>
          {(id) => (
            <select id={id} value={asking.template} onChange={(e) => set({ template: e.target.value })}>
              <option value="">Choose…</option>
              {catalogue?.templates.map((t) => (
                <option key={t.name} value={t.name}>
                  {t.title}
                </option>
              ))}
            </select>
          )}
        </Line>
      )}
      {(kind === 'access' || kind === 'account' || kind === 'mover' || kind === 'change') && (
        <Line label="From (now if empty)" problem={wrong('from')}>
          {(id) => <input id={id} type="date" value={asking.from} onChange={(e) => set({ from: e.target.value })} />}
        </Line>
      )}
      {(kind === 'access' || kind === 'extension' || kind === 'account') && (
        <Line label="Until, that day included" problem={wrong('until')}>
          {(id) => <input id={id} type="date" value={asking.until} onChange={(e) => set({ until: e.target.value })} />}
        </Line>
      )}
      {kind === 'leaver' && (
        <>
          <Line label="Last day" problem={asking.urgent ? undefined : wrong('lastDay')}>
            {(id) => (
              <input
                id={id}
                type="date"
                disabled={asking.urgent}
                value={asking.lastDay}
                onChange={(e) => set({ lastDay: e.target.value })}
              />
            )}
          </Line>
          <Line label="Urgent">
            {(id) => (
              <span>
                <input
                  id={id}
                  type="checkbox"
                  style={{ width: 'auto' }}
                  checked={asking.urgent}
                  onChange={(e) => set({ urgent: e.target.checked })}
                />{' '}
                access ends at once
              </span>
            )}
          </Line>
        </>
      )}
      {(kind === 'password' || kind === 'unlock') && wrong('target') && (
        <Line label="Target" problem={wrong('target')} wide>
          {(id) => <input id={id} value={asking.target} onChange={(e) => set({ target: e.target.value })} />}
        </Line>
      )}
    </>
  );
}

export function Line({
  label,
  problem,
  wide,
  children,
}: {
  label: string;
  problem?: string;
  wide?: boolean;
  children: (id: string) => ReactNode;
}) {
  const id = useId();
  return (
    <div className={`${style.field} ${wide ? style.wide : ''}`}>
      <label htmlFor={id}>{label}</label>
      {children(id)}
      {problem && <small>{problem}</small>}
    </div>
  );
}

function Attribute({
  name,
  value,
  problem,
  catalogue,
  onChange,
}: {
  name: string;
  value: string;
  problem?: string;
  catalogue: Schemas['Catalogue'] | undefined;
  onChange: (value: string) => void;
}) {
  const list = useId();
  const about = catalogue?.attributes.find((a) => a.name === name);
  const type = about?.type ?? 'text';
  const mark = name === 'number' ? ' (made up if empty)' : about?.mandatory ? ' *' : '';
  const known =
    name === 'department' ? catalogue?.departments : name === 'title' ? catalogue?.titles : name === 'kind' ? catalogue?.kinds : undefined;
  return (
    <Line label={`${about?.title || name}${mark}`} problem={value.length > 0 ? problem : undefined} wide={name === 'manager'}>
      {(id) =>
        name === 'manager' ? (
          <PersonPicker id={id} value={value} onChange={onChange} />
        ) : name === 'site' ? (
          <select id={id} value={value} onChange={(e) => onChange(e.target.value)}>
            <option value="">Choose…</option>
            {catalogue?.sites.map((s) => (
              <option key={s.name} value={s.name}>
                {s.value}
              </option>
            ))}
          </select>
        ) : (
          <>
            <input
              id={id}
              type={type === 'date' ? 'date' : 'text'}
              list={known ? list : undefined}
              value={value}
              aria-invalid={value.length > 0 && problem ? true : undefined}
              onChange={(e) => onChange(e.target.value)}
            />
            {known && (
              <datalist id={list}>
                {known.map((k) => (
                  <option key={k} value={k} />
                ))}
              </datalist>
            )}
          </>
        )
      }
    </Line>
  );
}

function Entitlements({
  chosen,
  catalogue,
  onChange,
  problem,
}: {
  chosen: string[];
  catalogue: Schemas['Catalogue'] | undefined;
  onChange: (keys: string[]) => void;
  problem?: string;
}) {
  const [text, setText] = useState('');
  const all = catalogue?.entitlements ?? [];
  const sought = text.trim().toLowerCase();
  const found = all.filter((e) => !chosen.includes(e.key) && `${e.key} ${e.title} ${e.description}`.toLowerCase().includes(sought));
  return (
    <Line label="What *" wide problem={chosen.length > 0 ? problem : undefined}>
      {(id) => (
        <>
          <ul className={style.chosen}>
            {chosen.map((key) => (
              <Chosen key={key} drop={`Leave out ${key}`} onDrop={() => onChange(chosen.filter((c) => c !== key))}>
                {all.find((e) => e.key === key)?.title ?? key}
              </Chosen>
            ))}
          </ul>
          <Seek id={id} hint="Search the catalogue" text={text} onChange={setText} />
          <Options
            label="Catalogue"
            none="Nothing is called that."
            found={found.slice(0, 30)}
            keyOf={(e) => e.key}
            choose={(e) => onChange([...chosen, e.key])}
          >
            {(e) => (
              <>
                <span>
                  {e.title} {e.privileged && <b className={rooms.tag}>privileged</b>}
                </span>
                <small>
                  {e.description || e.key} · {e.target} · owner {e.ownerName ?? e.owner ?? 'nobody'} · held by {e.holders}
                  {e.mostHolders ? ` of ${e.mostHolders}` : ''}
                </small>
              </>
            )}
          </Options>
        </>
      )}
    </Line>
  );
}

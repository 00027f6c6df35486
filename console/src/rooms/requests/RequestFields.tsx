import { type ReactNode, useId, useState } from 'react';
import type { Schemas } from '../../api/client';
import { Chosen, Options, PersonPicker, Seek } from '../common/PersonPicker';
import rooms from '../common/Rooms.module.css';
import { type Asking, isFilled } from './asking';
import style from './NewRequest.module.css';
import { choicesOf, type FieldSchema, grantOf, insteadOf } from './schema';

export type Problems = Schemas['FieldProblem'][];

interface Form {
  schema: FieldSchema;
  asking: Asking;
  set: (change: Partial<Asking>) => void;
  catalogue: Schemas['Catalogue'] | undefined;
  problems: Problems;
  /** What the templates of the person ask for beside. */
  open: Schemas['OpenField'][];
}

/** The fields of a kind of request, as its schema has them. */
export function Fields(form: Form) {
  const { schema, asking, set, catalogue, problems } = form;
  const wrong = (name: string) => problems.find((p) => p.field === name)?.message;
  const value = (name: string) => asking.values[name] ?? '';
  const needed = (name: string) => (schema.required?.includes(name) ? ' *' : '');
  const scalar = (name: string, of: FieldSchema) => (
    <Line
      key={name}
      label={`${of.title ?? name}${needed(name)}`}
      wide={of['x-pick'] === 'person' || of.oneOf !== undefined}
      problem={name === 'person' && value(name) === '' ? undefined : wrong(name)}
    >
      {(id) => (
        <Input
          id={id}
          schema={of}
          value={value(name)}
          disabled={insteadOf(schema, name).some((other) => isFilled(asking, other))}
          onChange={(text) => set({ values: { ...asking.values, [name]: text } })}
        />
      )}
    </Line>
  );
  return (
    <>
      {Object.entries(schema.properties ?? {}).map(([name, of]) => {
        if (name === 'kind' || name === 'reason') return null;
        if (name === 'record') return <RecordFields key={name} form={form} schema={of} wrong={wrong} />;
        if (name === 'grants')
          return (
            <div key={name} className={style.part}>
              <Entitlements
                chosen={asking.entitlements}
                catalogue={catalogue}
                onChange={(entitlements) => set({ entitlements })}
                problem={wrong('grants')}
              />
              {Object.entries(grantOf(schema))
                .filter(([field]) => field !== 'entitlement')
                .map(([field, one]) => scalar(field, one))}
            </div>
          );
        if (of.type === 'boolean')
          return (
            <Line key={name} label={of.title ?? name} problem={wrong(name)}>
              {(id) => (
                <span>
                  <input
                    id={id}
                    type="checkbox"
                    className={style.tick}
                    checked={isFilled(asking, name)}
                    onChange={(e) => set({ [name]: e.target.checked })}
                  />{' '}
                  {of.description}
                </span>
              )}
            </Line>
          );
        // One choice is none: the service knows it.
        if (name === 'target' && (choicesOf(of)?.length ?? 0) < 2) return null;
        return scalar(name, of);
      })}
    </>
  );
}

/** The attributes of a record: what the kind is about, what is asked for beside, and the rest on demand. */
function RecordFields({ form, schema, wrong }: { form: Form; schema: FieldSchema; wrong: (name: string) => string | undefined }) {
  const { asking, set, catalogue } = form;
  const all = Object.entries(schema.properties ?? {});
  const asked = new Set(form.open.map((o) => o.name));
  const shown = all.filter(([name, of]) => of['x-usual'] || asked.has(name));
  const rest = all.filter(([name]) => !shown.some(([s]) => s === name));
  const known: Record<string, string[] | undefined> = {
    department: catalogue?.departments,
    title: catalogue?.titles,
    kind: catalogue?.kinds,
  };
  const line = ([name, of]: [string, FieldSchema]) => {
    const value = asking.record[name] ?? '';
    const mark = name === 'number' ? ' (made up if empty)' : schema.required?.includes(name) || asked.has(name) ? ' *' : '';
    return (
      <Line
        key={name}
        label={`${of.title ?? name}${mark}`}
        wide={of['x-pick'] === 'person'}
        problem={value === '' ? undefined : wrong(name)}
      >
        {(id) => (
          <Input
            id={id}
            schema={of}
            value={value}
            known={known[name]}
            wrong={value !== '' && wrong(name) !== undefined}
            onChange={(text) => set({ record: { ...asking.record, [name]: text } })}
          />
        )}
      </Line>
    );
  };
  return (
    <>
      {shown.map(line)}
      {rest.length > 0 && (
        <details className={style.part} open={rest.some(([name]) => (asking.record[name] ?? '') !== '') || undefined}>
          <summary>Further fields</summary>
          <div className={style.part}>{rest.map(line)}</div>
        </details>
      )}
    </>
  );
}

/** One value: chosen where the schema says from what, typed where it does not. */
function Input(props: {
  id: string;
  schema: FieldSchema;
  value: string;
  onChange: (value: string) => void;
  known?: string[];
  wrong?: boolean;
  disabled?: boolean;
}) {
  const { id, schema, value, onChange, known } = props;
  const list = useId();
  const choices = choicesOf(schema);
  if (schema['x-pick'] === 'person') return <PersonPicker id={id} value={value} onChange={onChange} />;
  if (choices)
    return (
      <select id={id} value={value} disabled={props.disabled} onChange={(e) => onChange(e.target.value)}>
        <option value="">Choose…</option>
        {choices.map(([name, title]) => (
          <option key={name} value={name}>
            {title}
          </option>
        ))}
      </select>
    );
  return (
    <>
      <input
        id={id}
        type={schema['x-pick'] === 'day' ? 'date' : 'text'}
        list={known ? list : undefined}
        value={value}
        disabled={props.disabled}
        aria-invalid={props.wrong || undefined}
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
          {(chosen.length === 0 || sought.length > 0) && (
            <Options
              label="Catalogue"
              none="Nothing is called that."
              found={found.slice(0, 30)}
              keyOf={(e) => e.key}
              choose={(e) => {
                onChange([...chosen, e.key]);
                setText('');
              }}
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
          )}
        </>
      )}
    </Line>
  );
}

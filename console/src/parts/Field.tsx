import { type ReactNode, useId } from 'react';
import { Input, Label, Text, TextArea, TextField } from 'react-aria-components';
import style from './Field.module.css';

export function Field(props: {
  label: string;
  value: string;
  onChange: (value: string) => void;
  type?: 'text' | 'password' | 'date';
  autoFocus?: boolean;
  required?: boolean;
  long?: boolean;
  autoComplete?: string;
  /** What follows from the value, read with the field. */
  hint?: string;
}) {
  return (
    <TextField
      className={style.field}
      value={props.value}
      onChange={props.onChange}
      isRequired={props.required}
      type={props.type ?? 'text'}
      autoFocus={props.autoFocus}
    >
      <Label>{props.label}</Label>
      {props.long ? <TextArea rows={3} maxLength={2000} /> : <Input autoComplete={props.autoComplete} />}
      {props.hint && <Text slot="description">{props.hint}</Text>}
    </TextField>
  );
}

/** A label over a control that is none of the fields above. */
export function Labelled({ label, id, children }: { label: string; id: string; children: ReactNode }) {
  return (
    <div className={style.field}>
      <label htmlFor={id}>{label}</label>
      {children}
    </div>
  );
}

/** The line of filters above a list. */
export function Filters({ children }: { children: ReactNode }) {
  return <search className={style.filters}>{children}</search>;
}

/** A field that narrows a list; the key / goes to the page's first, so that a further one does not name it. */
export function SearchField({
  label,
  value,
  onChange,
  further,
}: {
  label: string;
  value: string;
  onChange: (value: string) => void;
  further?: boolean;
}) {
  const id = useId();
  return (
    <div className={style.search}>
      <label htmlFor={id} className="unseen">
        {label}
      </label>
      <input
        id={id}
        type="search"
        placeholder={further ? label : `${label}  ( / )`}
        value={value}
        onChange={(event) => onChange(event.target.value)}
      />
    </div>
  );
}

export function Choice({
  label,
  value,
  options,
  onChange,
}: {
  label: string;
  value: string;
  options: [string, string][];
  onChange: (value: string) => void;
}) {
  const id = useId();
  return (
    <div className={style.choice}>
      <label htmlFor={id}>{label}</label>
      <select id={id} value={value} onChange={(event) => onChange(event.target.value)}>
        {options.map(([key, word]) => (
          <option key={key} value={key}>
            {word}
          </option>
        ))}
      </select>
    </div>
  );
}

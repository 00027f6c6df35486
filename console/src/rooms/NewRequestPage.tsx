import { useMutation, useQuery, useQueryClient } from '@tanstack/react-query';
import { useNavigate, useSearch } from '@tanstack/react-router';
import { type ReactNode, useDeferredValue, useEffect, useId, useState } from 'react';
import { api, ask, type RequestPreview, type Schemas } from '../api/client';
import { Button } from '../parts/Button';
import { Failure, Loading, Notice } from '../parts/Notice';
import { ago } from '../parts/when';
import { type Asking, askingOf, bodyOf, type Kind, kindTitles, nothingAsked } from './asking';
import { BulkForm } from './BulkForm';
import style from './NewRequest.module.css';
import { Plan, summaryOf } from './Plan';
import rooms from './Rooms.module.css';
import { Stages } from './Stages';

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
const titles: Record<string, string> = {
  given: 'Given name',
  family: 'Family name',
  start: 'First day',
  end: 'Last day (if known)',
  kind: 'Kind',
  site: 'Site',
  department: 'Department',
  title: 'Job title',
  manager: 'Manager (employee number)',
  phone: 'Telephone',
  privateMail: 'Private mail',
  number: 'Employee number (made up if empty)',
  costCentre: 'Cost centre',
};
const employmentKinds = ['employee', 'contractor', 'researcher', 'seasonal', 'volunteer'];

/** Raises a request by hand: the few open fields on one side, the whole effect on the other while typing. */
export function NewRequestPage() {
  const search = useSearch({ from: '/shell/requests/new' });
  const navigate = useNavigate();
  const queries = useQueryClient();
  const [asking, setAsking] = useState<Asking>({ ...nothingAsked, kind: (search.kind as Kind) ?? 'joiner', person: search.person ?? '' });
  const [draft, setDraft] = useState<string>();
  const [many, setMany] = useState(false);
  const catalogue = useQuery({ queryKey: ['catalogue'], queryFn: () => ask(api.GET('/api/v1/catalogue')), staleTime: 60_000 });
  const copied = useQuery({
    queryKey: ['requests', 'one', search.copy],
    queryFn: () => ask(api.GET('/api/v1/requests/{id}', { params: { path: { id: search.copy ?? '' } } })),
    enabled: search.copy !== undefined,
  });
  useEffect(() => {
    const r = copied.data;
    if (!r) return;
    setAsking(
      askingOf({
        kind: r.summary.kind,
        person: r.summary.kind === 'joiner' ? null : r.summary.personNumber,
        reason: r.wish.reason,
        record: Object.fromEntries(r.wish.changes.map((c) => [c.name, c.value])),
        grants: r.wish.grants,
        template: r.wish.templates[0] ?? null,
        target: r.wish.target,
        urgent: r.wish.urgent,
        from: null,
        until: null,
        lastDay: r.wish.changes.find((c) => c.name === 'end')?.value ?? null,
      }),
    );
  }, [copied.data]);

  const body = bodyOf(asking);
  const deferred = useDeferredValue(JSON.stringify(body));
  const preview = useQuery({
    queryKey: ['preview', deferred],
    queryFn: () => ask(api.POST('/api/v1/requests/preview', { body: JSON.parse(deferred) as typeof body })),
    placeholderData: (previous) => previous,
    retry: false,
    staleTime: 10_000,
  });
  const raise = useMutation({
    mutationFn: () => ask(api.POST('/api/v1/requests', { body, headers: { 'Idempotency-Key': crypto.randomUUID() } })),
    onSuccess: async (made) => {
      if (draft) await api.DELETE('/api/v1/drafts/{id}', { params: { path: { id: draft } } });
      void queries.invalidateQueries({ queryKey: ['requests'] });
      await navigate({ to: '/requests/$id', params: { id: made.summary.id } });
    },
  });
  const keep = useMutation({
    mutationFn: () => {
      const id = draft ?? crypto.randomUUID();
      setDraft(id);
      const who = asking.kind === 'joiner' ? `${asking.record.given ?? ''} ${asking.record.family ?? ''}`.trim() : asking.person;
      return ask(
        api.PUT('/api/v1/drafts/{id}', { params: { path: { id } }, body: { title: `${asking.kind} ${who || 'of nobody yet'}`, body } }),
      );
    },
    onSuccess: () => queries.invalidateQueries({ queryKey: ['drafts'] }),
  });
  const set = (change: Partial<Asking>) => setAsking((a) => ({ ...a, ...change }));
  const touched = Object.keys(asking.record).length > 0 || asking.person !== '' || asking.entitlements.length > 0;
  const problems = touched ? (preview.data?.problems ?? []) : [];
  return (
    <>
      <header className={rooms.head}>
        <div className={rooms.line}>
          <h1>New request</h1>
          <Button kind="quiet" onPress={() => setMany(!many)}>
            {many ? 'One at a time' : 'Many from a file'}
          </Button>
        </div>
        <p>Fill in what only you know; the rulebook gives the rest. Nothing happens before it is approved.</p>
      </header>
      {many ? (
        <BulkForm />
      ) : (
        <div className={style.grid}>
          <section className={rooms.sheet} aria-label="What you ask for">
            <Drafts
              pick={(d) => {
                setDraft(d.id);
                setAsking(askingOf(d.body));
              }}
            />
            <fieldset className={style.kinds}>
              <legend className="unseen">Kind of request</legend>
              {kindTitles.map(([kind, title]) => (
                <label key={kind}>
                  <input
                    type="radio"
                    name="kind"
                    checked={asking.kind === kind}
                    onChange={() => set({ kind, record: {}, entitlements: [] })}
                  />
                  {title}
                </label>
              ))}
            </fieldset>
            <form
              className={style.fields}
              onSubmit={(event) => {
                event.preventDefault();
                raise.mutate();
              }}
            >
              <Fields asking={asking} set={set} catalogue={catalogue.data} problems={problems} open={preview.data?.open ?? []} />
              <Line label="Reason" problem={problems.find((p) => p.field === 'reason')?.message} wide>
                {(id) => (
                  <textarea id={id} rows={2} maxLength={2000} value={asking.reason} onChange={(e) => set({ reason: e.target.value })} />
                )}
              </Line>
              <div className={`${rooms.actions} ${style.wide}`}>
                <Button kind="main" type="submit" isDisabled={!preview.data?.sound || raise.isPending || preview.isPlaceholderData}>
                  Raise the request
                </Button>
                <Button onPress={() => keep.mutate()} isDisabled={!touched || keep.isPending}>
                  {keep.isSuccess ? 'Draft kept' : 'Keep as a draft'}
                </Button>
              </div>
              {raise.isError && (
                <div className={style.wide}>
                  <Failure error={raise.error} />
                </div>
              )}
            </form>
          </section>
          <section className={rooms.sheet} aria-labelledby="preview" aria-live="polite">
            <h2 id="preview">What it would bring</h2>
            {preview.isPending ? (
              <Loading what="The preview" />
            ) : preview.isError ? (
              <Failure error={preview.error} />
            ) : (
              <Preview preview={preview.data} touched={touched} stale={preview.isPlaceholderData} />
            )}
          </section>
        </div>
      )}
    </>
  );
}

function Preview({ preview, touched, stale }: { preview: RequestPreview; touched: boolean; stale: boolean }) {
  if (preview.plan.length === 0)
    return (
      <div className={rooms.stack}>
        {preview.note && <Notice title={preview.note} />}
        {touched && preview.problems.filter((p) => p.field === 'plan').map((p) => <Notice key={p.message} tone="bad" title={p.message} />)}
        <p className={rooms.quiet}>
          {touched
            ? 'Fill in the rest; the plan appears here.'
            : 'Every account and entitlement appears here while you type, and who decides.'}
        </p>
      </div>
    );
  return (
    <div className={`${rooms.stack} ${stale ? style.dim : ''}`}>
      <p className={rooms.effectLine}>{summaryOf(preview.plan)}</p>
      {preview.templates.length > 0 && <p className={rooms.quiet}>Templates: {preview.templates.join(', ')}.</p>}
      <Plan changes={preview.plan.filter((c) => c.kind !== 'verify')} steps={[]} />
      <div>
        <h3>Who decides</h3>
        <p className={rooms.quiet}>{preview.workflow}</p>
        {preview.stages.length === 0 ? <p>Nobody; it is released at once.</p> : <Stages stages={preview.stages} items={preview.items} />}
      </div>
    </div>
  );
}

type Problems = Schemas['FieldProblem'][];

function Fields({
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
      <PersonField value={asking.person} onChange={(person) => set({ person })} problem={wrong('person')} />
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
      {(kind === 'access' || kind === 'account') && (
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

function Line({
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
  const type = catalogue?.attributes.find((a) => a.name === name)?.type ?? 'text';
  const mandatory = catalogue?.attributes.find((a) => a.name === name)?.mandatory;
  const known =
    name === 'department' ? catalogue?.departments : name === 'title' ? catalogue?.titles : name === 'kind' ? employmentKinds : undefined;
  return (
    <Line label={`${titles[name] ?? name}${mandatory && name !== 'number' ? ' *' : ''}`} problem={value.length > 0 ? problem : undefined}>
      {(id) =>
        name === 'site' ? (
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

/** Finds a person by name or number while typing. */
export function PersonField({ value, onChange, problem }: { value: string; onChange: (number: string) => void; problem?: string }) {
  const [text, setText] = useState('');
  const sought = useDeferredValue(text);
  const found = useQuery({
    queryKey: ['people', 'seek', sought],
    queryFn: () => ask(api.GET('/api/v1/people', { params: { query: { text: sought, limit: 8 } } })),
    enabled: sought.length > 1,
  });
  const person = useQuery({
    queryKey: ['people', 'one', value],
    queryFn: () => ask(api.GET('/api/v1/people/{id}', { params: { path: { id: value } } })),
    enabled: value.length > 0,
    retry: false,
  });
  return (
    <Line label="For whom *" wide problem={value ? problem : undefined}>
      {(id) =>
        value ? (
          <ul className={style.chosen}>
            <li>
              {person.data ? `${person.data.name} (${person.data.number}), ${person.data.title}, ${person.data.department}` : value}
              <Button kind="quiet" aria-label="Somebody else" onPress={() => onChange('')}>
                ×
              </Button>
            </li>
          </ul>
        ) : (
          <>
            <input
              id={id}
              type="search"
              placeholder="Name or employee number"
              autoComplete="off"
              value={text}
              onChange={(e) => setText(e.target.value)}
            />
            {sought.length > 1 && found.data && (
              <ul className={style.options} aria-label="People found">
                {found.data.items.length === 0 && <li className={rooms.quiet}>Nobody is called that.</li>}
                {found.data.items.map((p) => (
                  <li key={p.id}>
                    <button
                      type="button"
                      onClick={() => {
                        onChange(p.number);
                        setText('');
                      }}
                    >
                      {p.name}
                      <small>
                        {p.number} · {p.title}, {p.department}, {p.site}
                      </small>
                    </button>
                  </li>
                ))}
              </ul>
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
              <li key={key}>
                {all.find((e) => e.key === key)?.title ?? key}
                <Button kind="quiet" aria-label={`Leave out ${key}`} onPress={() => onChange(chosen.filter((c) => c !== key))}>
                  ×
                </Button>
              </li>
            ))}
          </ul>
          <input
            id={id}
            type="search"
            placeholder="Search the catalogue"
            autoComplete="off"
            value={text}
            onChange={(e) => setText(e.target.value)}
          />
          <ul className={style.options} aria-label="Catalogue">
            {found.slice(0, 30).map((e) => (
              <li key={e.key}>
                <button type="button" onClick={() => onChange([...chosen, e.key])}>
                  <span>
                    {e.title} {e.privileged && <b className={rooms.tag}>privileged</b>}
                  </span>
                  <small>
                    {e.description || e.key} · {e.target} · owner {e.ownerName ?? e.owner ?? 'nobody'} · held by {e.holders}
                    {e.mostHolders ? ` of ${e.mostHolders}` : ''}
                  </small>
                </button>
              </li>
            ))}
          </ul>
        </>
      )}
    </Line>
  );
}

function Drafts({ pick }: { pick: (draft: Schemas['Draft']) => void }) {
  const queries = useQueryClient();
  const drafts = useQuery({ queryKey: ['drafts'], queryFn: () => ask(api.GET('/api/v1/drafts')) });
  const drop = useMutation({
    mutationFn: (id: string) => ask(api.DELETE('/api/v1/drafts/{id}', { params: { path: { id } } })),
    onSuccess: () => queries.invalidateQueries({ queryKey: ['drafts'] }),
  });
  if (!drafts.data || drafts.data.items.length === 0) return null;
  return (
    <p className={rooms.views}>
      Drafts:{' '}
      {drafts.data.items.map((d) => (
        <span key={d.id}>
          <Button kind="quiet" onPress={() => pick(d)}>
            {d.title}, {ago(d.at)}
          </Button>
          <Button kind="quiet" aria-label={`Throw away the draft ${d.title}`} onPress={() => drop.mutate(d.id)}>
            ×
          </Button>
        </span>
      ))}
    </p>
  );
}

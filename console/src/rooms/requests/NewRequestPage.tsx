import { useMutation, useQuery, useQueryClient } from '@tanstack/react-query';
import { useNavigate, useSearch } from '@tanstack/react-router';
import { useDeferredValue, useEffect, useState } from 'react';
import { api, ask, type RequestPreview, type Schemas } from '../../api/client';
import { Button } from '../../parts/Button';
import { Failure, Loading, Notice } from '../../parts/Notice';
import { ago } from '../../parts/when';
import rooms from '../common/Rooms.module.css';
import { useCatalogue, useWords } from '../common/words';
import { type Asking, askingOf, bodyOf, isTouched, nothingAsked } from './asking';
import { BulkForm } from './BulkForm';
import { Effect } from './Effect';
import style from './NewRequest.module.css';
import { Fields, Line } from './RequestFields';
import { Stages } from './Stages';
import type { FieldSchema } from './schema';

/** Raises a request by hand: the few open fields on one side, the whole effect on the other while typing. */
export function NewRequestPage() {
  const search = useSearch({ from: '/shell/requests/new' });
  const navigate = useNavigate();
  const queries = useQueryClient();
  const [asking, setAsking] = useState<Asking>({
    ...nothingAsked,
    kind: search.kind ?? 'joiner',
    values: search.person ? { person: search.person } : {},
  });
  const [draft, setDraft] = useState<string>();
  const [many, setMany] = useState(false);
  const catalogue = useCatalogue();
  const copied = useQuery({
    meta: { what: 'The request that is copied' },
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
        from: r.wish.from ?? null,
        until: null,
        lastDay: r.wish.changes.find((c) => c.name === 'end')?.value ?? null,
      }),
    );
  }, [copied.data]);

  const schema = useQuery({
    queryKey: ['schema', asking.kind],
    queryFn: async () =>
      (await ask(api.GET('/api/v1/requests/schemas/{kind}', { params: { path: { kind: asking.kind } } }))) as unknown as FieldSchema,
    placeholderData: (previous) => previous,
    staleTime: 60_000,
  });
  const form = schema.isPlaceholderData ? undefined : schema.data;
  const body = bodyOf(asking, form ?? {});
  const deferred = useDeferredValue(JSON.stringify(body));
  const preview = useQuery({
    queryKey: ['preview', deferred],
    queryFn: () => ask(api.POST('/api/v1/requests/preview', { body: JSON.parse(deferred) as typeof body })),
    enabled: form !== undefined,
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
    meta: { what: 'Keeping the draft' },
    mutationFn: () => {
      const id = draft ?? crypto.randomUUID();
      setDraft(id);
      const who = asking.kind === 'joiner' ? `${asking.record.given ?? ''} ${asking.record.family ?? ''}`.trim() : asking.values.person;
      return ask(
        api.PUT('/api/v1/drafts/{id}', { params: { path: { id } }, body: { title: `${asking.kind} ${who || 'of nobody yet'}`, body } }),
      );
    },
    onSuccess: () => queries.invalidateQueries({ queryKey: ['drafts'] }),
  });
  const set = (change: Partial<Asking>) => setAsking((a) => ({ ...a, ...change }));
  const touched = isTouched(asking);
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
              {catalogue.data?.requests
                .filter((k) => k.isByHand)
                .map(({ name, title }) => (
                  <label key={name}>
                    <input
                      type="radio"
                      name="kind"
                      checked={asking.kind === name}
                      onChange={() => set({ kind: name, record: {}, entitlements: [] })}
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
              {schema.isError ? (
                <Failure error={schema.error} again={() => void schema.refetch()} />
              ) : (
                <Fields
                  schema={schema.data ?? {}}
                  asking={asking}
                  set={set}
                  catalogue={catalogue.data}
                  problems={problems}
                  open={preview.data?.open ?? []}
                />
              )}
              <Line label="Reason" problem={problems.find((p) => p.field === 'reason')?.message} wide>
                {(id) => (
                  <textarea
                    id={id}
                    rows={2}
                    maxLength={2000}
                    value={asking.values.reason ?? ''}
                    onChange={(e) => set({ values: { ...asking.values, reason: e.target.value } })}
                  />
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
  const place = useWords().place(preview.site);
  if (preview.plan.length === 0)
    return (
      <div className={rooms.stack}>
        {preview.note && <Notice title={preview.note} />}
        {touched && preview.problems.filter((p) => p.field === 'plan').map((p) => <Notice key={p.message} tone="bad" title={p.message} />)}
        {!preview.note && (
          <p className={rooms.quiet}>
            {touched
              ? 'Fill in the rest; the plan appears here.'
              : 'Every account and entitlement appears here while you type, and who decides.'}
          </p>
        )}
      </div>
    );
  return (
    <div className={`${rooms.stack} ${stale ? style.dim : ''}`}>
      {preview.templates.length > 0 && <p className={rooms.quiet}>Templates: {preview.templates.join(', ')}.</p>}
      <Effect effect={preview.effect} place={place} />
      <div>
        <h3>Who decides</h3>
        <p className={rooms.quiet}>{preview.workflow}</p>
        {preview.stages.length === 0 ? <p>Nobody; it is released at once.</p> : <Stages stages={preview.stages} items={preview.items} />}
      </div>
    </div>
  );
}

function Drafts({ pick }: { pick: (draft: Schemas['Draft']) => void }) {
  const queries = useQueryClient();
  const drafts = useQuery({ meta: { what: 'Your drafts' }, queryKey: ['drafts'], queryFn: () => ask(api.GET('/api/v1/drafts')) });
  const drop = useMutation({
    meta: { what: 'Dropping the draft' },
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

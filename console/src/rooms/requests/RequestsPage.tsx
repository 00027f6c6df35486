import { useInfiniteQuery, useMutation, useQuery, useQueryClient } from '@tanstack/react-query';
import { Link, useNavigate, useSearch } from '@tanstack/react-router';
import { useDeferredValue, useState } from 'react';
import { api, ask } from '../../api/client';
import { Button } from '../../parts/Button';
import { Dialog, DialogActions } from '../../parts/Dialog';
import { Choice, Field, Filters, SearchField } from '../../parts/Field';
import { Failure } from '../../parts/Notice';
import { PagedTable } from '../../parts/PagedTable';
import { useMe } from '../../shell/Shell';
import style from '../common/Rooms.module.css';
import { useCatalogue } from '../common/words';
import { Board } from '../today/Board';
import { requestColumns } from './requestColumns';
import { allRequests, type RequestSearch, readSearch, stateOptions, writeSearch } from './requestSearch';

export function RequestsPage() {
  const navigate = useNavigate();
  const me = useMe();
  const search = useSearch({ from: '/shell/requests' });
  const text = useDeferredValue(search.text);
  const { board, ...filter } = search;
  const query = { ...filter, text };
  const counts = useQuery({
    meta: { what: 'The counts' },
    queryKey: ['requests', 'counts'],
    queryFn: () => ask(api.GET('/api/v1/requests/counts')),
  });
  const list = useInfiniteQuery({
    queryKey: ['requests', 'list', query],
    queryFn: ({ pageParam }) => ask(api.GET('/api/v1/requests', { params: { query: { ...query, limit: 100, after: pageParam } } })),
    initialPageParam: undefined as string | undefined,
    getNextPageParam: (page) => page.next ?? undefined,
    placeholderData: (previous) => previous,
    enabled: !board,
  });
  const kinds = (useCatalogue().data?.requests ?? []).map((k): [string, string] => [k.name, k.title.toLowerCase()]);
  const set = (change: Partial<RequestSearch>) => void navigate({ to: '/requests', search: { ...search, ...change }, replace: true });
  const of = (...names: string[]) => names.reduce((sum, state) => sum + Number(counts.data?.states[state] ?? 0), 0);
  const narrowed = writeSearch({ ...search, board: undefined }).length > 0;
  const mayAsk = me.data?.roles.some((r) => r === 'requester' || r === 'engineer');
  return (
    <>
      <header className={style.head}>
        <div className={style.line}>
          <h1>Requests</h1>
          {mayAsk && (
            <Link to="/requests/new" search={{ kind: undefined, person: undefined, copy: undefined }} className={style.mainLink}>
              New request<kbd>n</kbd>
            </Link>
          )}
        </div>
        <p>
          {counts.data
            ? [
                `${of('planning', 'choosing', 'deciding', 'asked', 'releasing', 'fulfilling')} open: `,
                `${of('deciding', 'asked')} to decide, ${of('releasing')} to release, ${of('fulfilling')} running`,
                Number(counts.data.late) > 0 && `; ${counts.data.late} late`,
                Number(counts.data.stuck) > 0 && `; ${counts.data.stuck} stuck`,
                `. ${of('completed')} completed.`,
              ]
            : ' '}
        </p>
      </header>
      <Filters>
        <SearchField
          label="Name, employee number or request number"
          value={search.text ?? ''}
          onChange={(value) => set({ text: value || undefined })}
        />
        <Choice label="State" value={search.state ?? ''} options={stateOptions} onChange={(value) => set({ state: value || undefined })} />
        <Choice
          label="Kind"
          value={search.kind ?? ''}
          options={[['', 'every kind'], ...kinds]}
          onChange={(value) => set({ kind: value || undefined })}
        />
        <Choice
          label="Show"
          value={search.late ? 'late' : search.stuck ? 'stuck' : search.requester === 'me' ? 'own' : search.open ? 'open' : ''}
          options={[
            ['', 'all'],
            ['open', 'open only'],
            ['late', 'late'],
            ['stuck', 'stuck'],
            ['own', 'raised by me'],
          ]}
          onChange={(value) =>
            set({
              late: value === 'late' || undefined,
              stuck: value === 'stuck' || undefined,
              open: value === 'open' || undefined,
              requester: value === 'own' ? 'me' : undefined,
            })
          }
        />
        <Button kind="quiet" onPress={() => set({ board: board ? undefined : true })}>
          {board ? 'As a list' : 'As a board'}
        </Button>
        <a href={`/api/v1/requests/export?${writeSearch({ ...search, board: undefined })}`} download="requests.csv">
          Export
        </a>
      </Filters>
      <Views search={search} />
      {board ? (
        <Board filter={query} />
      ) : (
        <PagedTable
          list={list}
          label="Requests"
          columns={requestColumns}
          keyOf={(r) => r.id}
          open={(r) => void navigate({ to: '/requests/$id', params: { id: r.id } })}
          empty={
            narrowed
              ? 'No request is like that. Widen the filter.'
              : 'There is no request yet. An intake run raises the first ones: oikonom intake run hr'
          }
        />
      )}
    </>
  );
}

/** Views of the list that the caller keeps under a name. */
function Views({ search }: { search: RequestSearch }) {
  const queries = useQueryClient();
  const [naming, setNaming] = useState(false);
  const [name, setName] = useState('');
  const views = useQuery({ meta: { what: 'Your saved views' }, queryKey: ['views'], queryFn: () => ask(api.GET('/api/v1/views')) });
  const after = () => {
    setNaming(false);
    setName('');
    return queries.invalidateQueries({ queryKey: ['views'] });
  };
  const save = useMutation({
    mutationFn: () =>
      ask(api.PUT('/api/v1/views/{name}', { params: { path: { name: name.trim() } }, body: { query: writeSearch(search) } })),
    onSuccess: after,
  });
  const drop = useMutation({
    meta: { what: 'Dropping the view' },
    mutationFn: (view: string) => ask(api.DELETE('/api/v1/views/{name}', { params: { path: { name: view } } })),
    onSuccess: after,
  });
  const here = writeSearch(search);
  const known = views.data?.items ?? [];
  if (known.length === 0 && here.length === 0) return null;
  return (
    <nav aria-label="Saved views" className={style.views}>
      {known.map((view) => (
        <span key={view.name} className={view.query === here ? style.chosen : undefined}>
          <Link to="/requests" search={{ ...allRequests, ...readSearch(Object.fromEntries(new URLSearchParams(view.query))) }}>
            {view.name}
          </Link>
          {view.query === here && (
            <Button kind="quiet" aria-label={`Forget the view ${view.name}`} onPress={() => drop.mutate(view.name)}>
              ×
            </Button>
          )}
        </span>
      ))}
      {here.length > 0 && !known.some((v) => v.query === here) && (
        <Button kind="quiet" onPress={() => setNaming(true)}>
          Keep this view
        </Button>
      )}
      {naming && (
        <Dialog title="Keep this view" isOpen close={() => setNaming(false)}>
          <form
            className={style.stack}
            onSubmit={(event) => {
              event.preventDefault();
              save.mutate();
            }}
          >
            <Field label="Name" value={name} onChange={setName} required autoFocus />
            {save.isError && <Failure error={save.error} />}
            <DialogActions>
              <Button onPress={() => setNaming(false)}>Back</Button>
              <Button kind="main" type="submit" isDisabled={name.trim().length === 0}>
                Keep
              </Button>
            </DialogActions>
          </form>
        </Dialog>
      )}
    </nav>
  );
}

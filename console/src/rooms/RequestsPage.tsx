import { useInfiniteQuery, useQuery } from '@tanstack/react-query';
import { useNavigate, useSearch } from '@tanstack/react-router';
import { useDeferredValue } from 'react';
import { api, ask } from '../api/client';
import { Choice, Filters, SearchField } from '../parts/Field';
import { PagedTable } from '../parts/PagedTable';
import style from './Rooms.module.css';
import { requestColumns } from './requestColumns';

const states: [string, string][] = [
  ['', 'every state'],
  ['planning', 'being planned'],
  ['choosing', 'choice needed'],
  ['deciding', 'to decide'],
  ['releasing', 'to release'],
  ['fulfilling', 'running'],
  ['completed', 'completed'],
  ['declined', 'declined'],
];
const kinds: [string, string][] = [
  ['', 'every kind'],
  ['joiner', 'joiner'],
  ['mover', 'mover'],
  ['leaver', 'leaver'],
];

export function RequestsPage() {
  const navigate = useNavigate();
  const search = useSearch({ from: '/shell/requests' });
  const text = useDeferredValue(search.text);
  const counts = useQuery({ queryKey: ['requests', 'counts'], queryFn: () => ask(api.GET('/api/v1/requests/counts')) });
  const list = useInfiniteQuery({
    queryKey: ['requests', 'list', search.state, search.kind, text],
    queryFn: ({ pageParam }) =>
      ask(
        api.GET('/api/v1/requests', { params: { query: { state: search.state, kind: search.kind, text, limit: 100, after: pageParam } } }),
      ),
    initialPageParam: undefined as string | undefined,
    getNextPageParam: (page) => page.next ?? undefined,
    placeholderData: (previous) => previous,
  });
  const set = (change: Partial<typeof search>) => void navigate({ to: '/requests', search: { ...search, ...change }, replace: true });
  const of = (state: string) => counts.data?.states[state] ?? 0;
  const open = of('planning') + of('choosing') + of('deciding') + of('releasing') + of('fulfilling');
  return (
    <>
      <header className={style.head}>
        <h1>Requests</h1>
        <p>
          {counts.data
            ? `${open} open: ${of('deciding')} to decide, ${of('releasing')} to release, ${of('fulfilling')} running. ${of('completed')} completed.`
            : ' '}
        </p>
      </header>
      <Filters>
        <SearchField
          label="Name, employee number or request number"
          value={search.text ?? ''}
          onChange={(value) => set({ text: value || undefined })}
        />
        <Choice label="State" value={search.state ?? ''} options={states} onChange={(value) => set({ state: value || undefined })} />
        <Choice label="Kind" value={search.kind ?? ''} options={kinds} onChange={(value) => set({ kind: value || undefined })} />
      </Filters>
      <PagedTable
        list={list}
        label="Requests"
        columns={requestColumns}
        keyOf={(r) => r.id}
        open={(r) => void navigate({ to: '/requests/$id', params: { id: r.id } })}
        empty={
          search.state || search.kind || search.text
            ? 'No request is like that. Widen the filter.'
            : 'There is no request yet. An intake run raises the first ones: oikonom intake run hr'
        }
      />
    </>
  );
}

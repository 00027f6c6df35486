import { useInfiniteQuery } from '@tanstack/react-query';
import { Link, useNavigate, useSearch } from '@tanstack/react-router';
import { useDeferredValue } from 'react';
import { api, ask, type PersonSummary } from '../../api/client';
import type { Column } from '../../parts/DataTable';
import { Filters, SearchField } from '../../parts/Field';
import { PagedTable } from '../../parts/PagedTable';
import { onDay } from '../../parts/when';
import style from '../common/Rooms.module.css';

const columns: Column<PersonSummary>[] = [
  { title: 'Number', minor: true, width: '5.5rem', cell: (p) => p.number },
  {
    title: 'Person',
    width: 'minmax(11rem, 2fr)',
    cell: (p) => (
      <Link to="/people/$id" params={{ id: p.id }}>
        {p.name}
      </Link>
    ),
  },
  { title: 'Title', width: 'minmax(9rem, 1.4fr)', cell: (p) => p.title },
  { title: 'Department', minor: true, width: 'minmax(8rem, 1.2fr)', cell: (p) => p.department },
  { title: 'Site', minor: true, width: '7rem', cell: (p) => p.site },
  { title: 'Kind', minor: true, width: '6.5rem', cell: (p) => p.kind },
  { title: 'From', minor: true, width: '7rem', cell: (p) => onDay(p.start) },
  { title: 'Until', minor: true, width: '7rem', cell: (p) => (p.end ? onDay(p.end) : 'open') },
];

export function PeoplePage() {
  const navigate = useNavigate();
  const search = useSearch({ from: '/shell/people' });
  const text = useDeferredValue(search.text);
  const list = useInfiniteQuery({
    queryKey: ['people', 'list', text],
    queryFn: ({ pageParam }) => ask(api.GET('/api/v1/people', { params: { query: { text, limit: 200, after: pageParam } } })),
    initialPageParam: undefined as string | undefined,
    getNextPageParam: (page) => page.next ?? undefined,
    placeholderData: (previous) => previous,
  });
  return (
    <>
      <header className={style.head}>
        <h1>People</h1>
        <p>Everybody HR knows, in order of family name.</p>
      </header>
      <Filters>
        <SearchField
          label="Name, employee number or account name"
          value={search.text ?? ''}
          onChange={(value) => void navigate({ to: '/people', search: { ...search, text: value || undefined }, replace: true })}
        />
      </Filters>
      <PagedTable
        list={list}
        label="People"
        columns={columns}
        keyOf={(p) => p.id}
        open={(p) => void navigate({ to: '/people/$id', params: { id: p.id } })}
        empty={
          search.text ? 'Nobody is like that.' : 'Nobody is known yet. The first intake run brings them: oikonom intake run hr --baseline'
        }
      />
    </>
  );
}

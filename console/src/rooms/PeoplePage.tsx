import { useInfiniteQuery } from '@tanstack/react-query';
import { Link, useNavigate, useSearch } from '@tanstack/react-router';
import { useCallback, useDeferredValue } from 'react';
import { api, ask, type PersonSummary } from '../api/client';
import { type Column, DataTable } from '../parts/DataTable';
import { Filters, SearchField } from '../parts/Field';
import { Failure, Loading } from '../parts/Notice';
import { onDay } from '../parts/when';
import style from './Rooms.module.css';

const columns: Column<PersonSummary>[] = [
  { title: 'Number', width: '5.5rem', cell: (p) => p.number },
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
  { title: 'Department', width: 'minmax(8rem, 1.2fr)', cell: (p) => p.department },
  { title: 'Site', width: '7rem', cell: (p) => p.site },
  { title: 'Kind', width: '6.5rem', cell: (p) => p.kind },
  { title: 'From', width: '7rem', cell: (p) => onDay(p.start) },
  { title: 'Until', width: '7rem', cell: (p) => (p.end ? onDay(p.end) : 'open') },
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
  const { hasNextPage, isFetchingNextPage, fetchNextPage } = list;
  const more = useCallback(() => {
    if (hasNextPage && !isFetchingNextPage) void fetchNextPage();
  }, [hasNextPage, isFetchingNextPage, fetchNextPage]);
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
      {list.isPending ? (
        <Loading what="The list" />
      ) : list.isError ? (
        <Failure error={list.error} again={() => void list.refetch()} />
      ) : (
        <DataTable
          label="People"
          columns={columns}
          rows={list.data.pages.flatMap((p) => p.items)}
          keyOf={(p) => p.id}
          open={(p) => void navigate({ to: '/people/$id', params: { id: p.id } })}
          more={hasNextPage ? more : undefined}
          empty={
            search.text ? 'Nobody is like that.' : 'Nobody is known yet. The first intake run brings them: oikonom intake run hr --baseline'
          }
        />
      )}
    </>
  );
}

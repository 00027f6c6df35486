import type { InfiniteData, UseInfiniteQueryResult } from '@tanstack/react-query';
import { type ComponentProps, useCallback } from 'react';
import { DataTable } from './DataTable';
import { Failure, Loading } from './Notice';

/** A table over a list that comes page by page: loading, failing, and the next page when the end comes near. */
export function PagedTable<T>({
  list,
  ...table
}: Omit<ComponentProps<typeof DataTable<T>>, 'rows' | 'more'> & { list: UseInfiniteQueryResult<InfiniteData<{ items: T[] }>, Error> }) {
  const { hasNextPage, isFetchingNextPage, fetchNextPage } = list;
  const more = useCallback(() => {
    if (hasNextPage && !isFetchingNextPage) void fetchNextPage();
  }, [hasNextPage, isFetchingNextPage, fetchNextPage]);
  if (list.isPending) return <Loading what="The list" />;
  if (list.isError) return <Failure error={list.error} again={() => void list.refetch()} />;
  return <DataTable {...table} rows={list.data.pages.flatMap((page) => page.items)} more={hasNextPage ? more : undefined} />;
}

import { useInfiniteQuery } from '@tanstack/react-query';
import { Link } from '@tanstack/react-router';
import { api, ask } from '../../api/client';
import { Button } from '../../parts/Button';
import { Failure } from '../../parts/Notice';
import { at } from '../../parts/when';
import { Changes } from '../common/Changes';
import style from '../common/Rooms.module.css';
import { Who } from '../common/Who';

/** What happened, newest first: who did it, for whom, and each attribute before and after. */
export function HistoryList({ of, id }: { of: 'people' | 'requests'; id: string }) {
  const history = useInfiniteQuery({
    queryKey: [of, 'history', id],
    initialPageParam: '',
    queryFn: ({ pageParam }) => {
      const params = { path: { id }, query: { limit: 20, ...(pageParam ? { after: pageParam } : {}) } };
      return of === 'people'
        ? ask(api.GET('/api/v1/people/{id}/history', { params }))
        : ask(api.GET('/api/v1/requests/{id}/history', { params }));
    },
    getNextPageParam: (page) => page.next ?? undefined,
  });
  if (history.isError) return <Failure error={history.error} again={() => void history.refetch()} />;
  const lines = history.data?.pages.flatMap((page) => page.items) ?? [];
  return (
    <section className={style.sheet} aria-labelledby={`history-${of}`}>
      <div className={style.title}>
        <h2 id={`history-${of}`}>History</h2>
        <a href={`/api/v1/${of}/${encodeURIComponent(id)}/history/export`} download>
          Export as CSV
        </a>
      </div>
      {lines.length === 0 && !history.isPending && <p className={style.quiet}>Nothing yet.</p>}
      <ol className={style.list}>
        {lines.map((line) => (
          <li key={line.entry}>
            <span>{line.text}</span>
            {line.forgottenAt && (
              <span className={style.quiet}>
                What it said was forgotten on {at(line.forgottenAt)}, by {line.forgottenBy}.
              </span>
            )}
            {line.changes.length > 0 && <Changes changes={line.changes} />}
            <span className={style.quiet}>
              {at(line.at)} · <Who user={line.actor} />
              {line.for ? ` for ${line.for}` : ''}
              {of === 'people' && line.requestId && (
                <>
                  {' · '}
                  <Link to="/requests/$id" params={{ id: line.requestId }}>
                    request {line.requestNumber}
                  </Link>
                </>
              )}
              {line.edition ? ` · edition ${line.edition}` : ''}
            </span>
          </li>
        ))}
      </ol>
      {history.hasNextPage && (
        <div className={style.actions}>
          <Button onPress={() => void history.fetchNextPage()} isDisabled={history.isFetchingNextPage}>
            Earlier
          </Button>
        </div>
      )}
    </section>
  );
}

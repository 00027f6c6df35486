import { useQuery } from '@tanstack/react-query';
import { useNavigate } from '@tanstack/react-router';
import { api, ask } from '../api/client';
import { DataTable } from '../parts/DataTable';
import { Failure, Loading } from '../parts/Notice';
import style from './Rooms.module.css';
import { requestColumns } from './requestColumns';

export function InboxPage() {
  const navigate = useNavigate();
  const inbox = useQuery({
    queryKey: ['requests', 'inbox'],
    queryFn: () => ask(api.GET('/api/v1/inbox', { params: { query: { limit: 200 } } })),
  });
  const rows = inbox.data?.items ?? [];
  return (
    <>
      <header className={style.head}>
        <h1>Inbox</h1>
        <p>
          {rows.length === 0
            ? 'What waits for you.'
            : `${rows.length === 200 ? '200 or more' : rows.length} ${rows.length === 1 ? 'request waits' : 'requests wait'} for you. Open one to see its whole effect.`}
        </p>
      </header>
      {inbox.isPending ? (
        <Loading what="The inbox" />
      ) : inbox.isError ? (
        <Failure error={inbox.error} again={() => void inbox.refetch()} />
      ) : (
        <DataTable
          label="Requests that wait for you"
          columns={requestColumns}
          rows={rows}
          keyOf={(r) => r.id}
          open={(r) => void navigate({ to: '/requests/$id', params: { id: r.id } })}
          empty="Nothing waits for you. New requests appear here by themselves."
        />
      )}
    </>
  );
}

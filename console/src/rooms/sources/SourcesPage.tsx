import { useQuery } from '@tanstack/react-query';
import { Link, useNavigate } from '@tanstack/react-router';
import { api, ask, type SourceSummary } from '../../api/client';
import { count } from '../../parts/count';
import { type Column, DataTable } from '../../parts/DataTable';
import { Failure, Loading } from '../../parts/Notice';
import { StateMark } from '../../parts/StateMark';
import { agoText, at } from '../../parts/when';
import style from '../common/Rooms.module.css';

const kinds: Record<string, string> = { file: 'File', http: 'Service', scim: 'SCIM push', post: 'Posted' };

const columns: Column<SourceSummary>[] = [
  {
    title: 'Source',
    width: 'minmax(10rem, 1.2fr)',
    cell: (s) => (
      <Link to="/sources/$name" params={{ name: s.name }}>
        {s.title}
      </Link>
    ),
  },
  { title: 'Kind', width: '6.5rem', cell: (s) => kinds[s.kind] ?? s.kind },
  { title: 'State', width: '10rem', cell: (s) => <StateMark state={s.state} title={s.problem ?? undefined} /> },
  {
    title: 'Last run',
    width: 'minmax(14rem, 2.4fr)',
    cell: (s) =>
      s.lastRun ? <span title={at(s.lastRun.startedAt)}>{`${agoText(s.lastRun.startedAt)}: ${s.lastRun.message}`}</span> : 'never',
  },
  { title: 'Set aside', width: '5.5rem', cell: (s) => s.setAside || '' },
  { title: 'Vanished', width: '5.5rem', cell: (s) => s.vanished || '' },
  { title: 'Next run', width: '9rem', cell: (s) => (s.nextRun ? at(s.nextRun) : s.schedule ? 'when switched on' : 'when asked') },
];

export function SourcesPage() {
  const navigate = useNavigate();
  const list = useQuery({ queryKey: ['sources', 'list'], queryFn: () => ask(api.GET('/api/v1/sources')) });
  if (list.isPending) return <Loading what="The list of sources" />;
  if (list.isError) return <Failure error={list.error} again={() => void list.refetch()} />;
  const held = list.data.items.filter((s) => s.state === 'held').length;
  return (
    <>
      <header className={style.head}>
        <h1>Sources</h1>
        <p>
          Where HR records come from.{' '}
          {held > 0 ? `${count(held, 'run waits', 'runs wait')} under the brake.` : 'Nothing waits under the brake.'}
        </p>
      </header>
      <DataTable
        label="Sources"
        columns={columns}
        rows={list.data.items}
        keyOf={(s) => s.name}
        open={(s) => void navigate({ to: '/sources/$name', params: { name: s.name } })}
        empty="The rulebook has no source yet."
      />
    </>
  );
}

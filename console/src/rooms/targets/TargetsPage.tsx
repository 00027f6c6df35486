import { useQuery } from '@tanstack/react-query';
import { Link, useNavigate } from '@tanstack/react-router';
import { api, ask, type TargetSummary } from '../../api/client';
import { count } from '../../parts/count';
import { type Column, DataTable } from '../../parts/DataTable';
import { Failure, Loading } from '../../parts/Notice';
import { StateMark } from '../../parts/StateMark';
import { agoText, at } from '../../parts/when';
import style from '../common/Rooms.module.css';
import { Nobodys } from './Nobodys';
import { kindOf } from './words';

const columns: Column<TargetSummary>[] = [
  {
    title: 'Target',
    width: 'minmax(11rem, 1.4fr)',
    cell: (t) => (
      <Link to="/targets/$name" params={{ name: t.name }}>
        {t.title}
      </Link>
    ),
  },
  { title: 'Kind', width: '6.5rem', cell: (t) => kindOf(t.kind) },
  { title: 'State', width: '8rem', cell: (t) => <StateMark state={t.state} title={t.text || undefined} /> },
  {
    title: 'Last success',
    width: '8.5rem',
    cell: (t) => (t.lastSuccess ? <span title={at(t.lastSuccess)}>{agoText(t.lastSuccess)}</span> : 'none yet'),
  },
  { title: 'Accounts', width: '5.5rem', cell: (t) => (t.canRead ? t.accounts.toLocaleString('en') : '') },
  { title: 'Changed', width: '5rem', cell: (t) => t.differing || '' },
  {
    title: 'Due',
    width: '4rem',
    cell: (t) => (t.due > 0 ? <span title={t.oldest ? `since ${at(t.oldest)}` : undefined}>{t.due}</span> : ''),
  },
  { title: 'Later', width: '4rem', cell: (t) => t.waiting - t.due || '' },
  { title: 'Failing', width: '4.5rem', cell: (t) => (t.failing > 0 ? <span className={style.bad}>{t.failing}</span> : '') },
  {
    title: 'Within a day',
    width: 'minmax(7.5rem, 1fr)',
    cell: (t) => (t.done + t.failed > 0 ? `${t.done} done${t.failed > 0 ? `, ${t.failed} not` : ''}` : ''),
  },
];

/** What is said of all of them in a sentence: the gravest first. */
export function toldOf(targets: TargetSummary[]): string {
  const of = (state: string) => targets.filter((t) => t.state === state);
  const names = (some: TargetSummary[]) => some.map((t) => t.title).join(', ');
  if (of('away').length > 0) return `${names(of('away'))} ${of('away').length === 1 ? 'does' : 'do'} not answer.`;
  if (of('paused').length > 0) return `${names(of('paused'))} ${of('paused').length === 1 ? 'is' : 'are'} paused.`;
  if (of('maintenance').length > 0) return `${names(of('maintenance'))} ${of('maintenance').length === 1 ? 'is' : 'are'} being worked on.`;
  const due = targets.reduce((sum, t) => sum + t.due, 0);
  return due > 0 ? `All work; ${count(due, 'step is', 'steps are')} due.` : 'All work, and nothing waits for them.';
}

/** The systems that give access: how each does, and what stands in them that belongs to nobody. */
export function TargetsPage() {
  const navigate = useNavigate();
  const list = useQuery({ queryKey: ['targets', 'list'], queryFn: () => ask(api.GET('/api/v1/targets')), refetchInterval: 10_000 });
  if (list.isPending) return <Loading what="The list of targets" />;
  if (list.isError) return <Failure error={list.error} again={() => void list.refetch()} />;
  return (
    <>
      <header className={style.head}>
        <h1>Targets</h1>
        <p>Where access is given. {toldOf(list.data.items)}</p>
      </header>
      <div className={style.stack}>
        <DataTable
          label="Targets"
          columns={columns}
          rows={list.data.items}
          keyOf={(t) => t.name}
          open={(t) => void navigate({ to: '/targets/$name', params: { name: t.name } })}
          empty="The rulebook has no target yet."
        />
        <Nobodys />
      </div>
    </>
  );
}

import { useQuery } from '@tanstack/react-query';
import { Link } from '@tanstack/react-router';
import { api, ask } from '../../api/client';
import { Failure } from '../../parts/Notice';
import { ago } from '../../parts/when';
import { Who } from '../common/Who';
import type { RequestSearch } from '../requests/requestSearch';
import style from './Board.module.css';

const lanes: [string, string][] = [
  ['planning', 'Being planned'],
  ['deciding', 'To decide'],
  ['asked', 'Question asked'],
  ['releasing', 'To release'],
  ['fulfilling', 'Running'],
];

/** Open requests by state, the latest of each. */
export function Board({ filter }: { filter: Omit<RequestSearch, 'board'> }) {
  return (
    <div className={style.board}>
      {lanes.map(([state, title]) => (
        <Lane key={state} state={state} title={title} filter={filter} />
      ))}
    </div>
  );
}

function Lane({ state, title, filter }: { state: string; title: string; filter: Omit<RequestSearch, 'board'> }) {
  const query = { ...filter, state, limit: 50 };
  const list = useQuery({ queryKey: ['requests', 'lane', query], queryFn: () => ask(api.GET('/api/v1/requests', { params: { query } })) });
  return (
    <section className={style.lane} aria-label={title}>
      <h2>
        {title} <span>{list.data ? `${list.data.items.length}${list.data.next ? '+' : ''}` : ''}</span>
      </h2>
      {list.isError && <Failure error={list.error} />}
      <ol>
        {list.data?.items.map((r) => (
          <li key={r.id} className={style.card}>
            <Link to="/requests/$id" params={{ id: r.id }}>
              {r.person}
            </Link>
            <small>
              {r.kind} {r.number} · {ago(r.since)}
            </small>
            <small className={r.late || r.problem ? style.bad : undefined}>
              {r.problem ? 'stuck' : r.late ? 'late: ' : ''}
              {!r.problem && <Who user={r.waitsOn} />}
            </small>
          </li>
        ))}
      </ol>
    </section>
  );
}

import { useInfiniteQuery } from '@tanstack/react-query';
import { Link, useNavigate, useSearch } from '@tanstack/react-router';
import { type ReactNode, useState } from 'react';
import { api, ask, type Rollout, type Schemas } from '../../api/client';
import { Button } from '../../parts/Button';
import { Choice, Filters, SearchField } from '../../parts/Field';
import { Failure, Loading } from '../../parts/Notice';
import { StateMark } from '../../parts/StateMark';
import style from '../common/Rooms.module.css';
import { Effects } from '../service/Figures';
import book from './Rulebook.module.css';

const stateWords: [string, string][] = [
  ['', 'any'],
  ['open', 'undecided'],
  ['approved', 'approved'],
  ['running', 'running'],
  ['own', 'decided on its own'],
  ['done', 'done'],
  ['moved', 'moved by another request'],
  ['declined', 'declined'],
  ['failing', 'cannot be worked out'],
  ['turned-back', 'turned back'],
];

export function People({ rollout }: { rollout: Rollout }) {
  const number = String(rollout.summary.number);
  const search = useSearch({ from: '/shell/rollouts/$id' });
  const navigate = useNavigate();
  const [text, setText] = useState('');
  const to = (part: Partial<typeof search>) =>
    void navigate({ to: '/rollouts/$id', params: { id: number }, search: { ...search, ...part }, replace: true });
  const list = useInfiniteQuery({
    queryKey: ['rollouts', number, 'people', search, text],
    queryFn: ({ pageParam }) =>
      ask(
        api.GET('/api/v1/rollouts/{id}/people', {
          params: { path: { id: number }, query: { ...search, text: text || undefined, after: pageParam, limit: 100 } },
        }),
      ),
    initialPageParam: undefined as string | undefined,
    getNextPageParam: (last) => last.next ?? undefined,
    placeholderData: (previous) => previous,
  });
  const rows = list.data?.pages.flatMap((p) => p.items) ?? [];
  return (
    <section className={style.sheet} aria-labelledby="people">
      <h2 id="people">Person by person</h2>
      <Filters>
        <SearchField label="Name or number" value={text} onChange={setText} />
        <Choice label="Stands" value={search.state ?? ''} options={stateWords} onChange={(state) => to({ state: state || undefined })} />
        <Choice
          label="Department"
          value={search.department ?? ''}
          options={[['', 'all'], ...rollout.departments.map((d): [string, string] => [d.department, d.department || 'none'])]}
          onChange={(department) => to({ department: department || undefined })}
        />
        <Choice
          label="Template"
          value={search.template ?? ''}
          options={[['', 'all'], ...rollout.templates.map((t): [string, string] => [t.name, t.name])]}
          onChange={(template) => to({ template: template || undefined })}
        />
        {search.wave !== undefined && (
          <Button kind="quiet" onPress={() => to({ wave: undefined })}>
            {search.wave === 0 ? 'Unchanged' : `Wave ${search.wave}`} ✕
          </Button>
        )}
      </Filters>
      {list.isPending && <Loading what="The list" />}
      {list.isError && <Failure error={list.error} again={() => void list.refetch()} />}
      <table className={style.grants}>
        <thead>
          <tr>
            <th scope="col">Person</th>
            <th scope="col">Department</th>
            <th scope="col">Stands</th>
            <th scope="col">What changes</th>
          </tr>
        </thead>
        <tbody>
          {rows.map((p) => (
            <Person key={p.id} person={p} />
          ))}
        </tbody>
      </table>
      {!list.isPending && rows.length === 0 && <p className={style.quiet}>Nobody.</p>}
      {list.hasNextPage && (
        <Button kind="quiet" isDisabled={list.isFetchingNextPage} onPress={() => void list.fetchNextPage()}>
          Show more
        </Button>
      )}
    </section>
  );
}

function Person({ person: p }: { person: Schemas['RolloutPerson'] }) {
  const changes: ReactNode = p.problem ? (
    <span className={book.no}>
      <span>{p.problem}</span>
    </span>
  ) : p.effects.length === 0 ? (
    <span className={style.quiet}>nothing</span>
  ) : (
    <Effects of={p.effects} />
  );
  return (
    <tr>
      <td>
        <Link to="/people/$id" params={{ id: p.id }}>
          {p.name}
        </Link>{' '}
        <small className={style.quiet}>{p.number}</small>
      </td>
      <td>{p.department}</td>
      <td>
        {p.requestId ? (
          <Link to="/requests/$id" params={{ id: p.requestId }}>
            <StateMark state={p.state === 'open' ? 'deciding' : p.state} />
          </Link>
        ) : (
          <StateMark state={p.state === 'open' ? 'deciding' : p.state} />
        )}
      </td>
      <td>{changes}</td>
    </tr>
  );
}

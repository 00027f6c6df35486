import { useMutation, useQuery, useQueryClient } from '@tanstack/react-query';
import { Link, useNavigate } from '@tanstack/react-router';
import { api, ask, type Schemas } from '../../api/client';
import { Button } from '../../parts/Button';
import { count } from '../../parts/count';
import { Failure, Notice } from '../../parts/Notice';
import { StateMark } from '../../parts/StateMark';
import { agoText } from '../../parts/when';
import style from '../common/Rooms.module.css';
import book from './Rulebook.module.css';

type Summary = Schemas['RolloutSummary'];

/** The whole list of a roll-out, no filter set. */
export const allOfIt = { state: undefined, department: undefined, template: undefined, wave: undefined };

const ends = ['done', 'turned-back', 'superseded'];

/** How far a roll-out has come, in a sentence. */
export function standing(r: Summary): string {
  if (r.problem) return r.problem;
  const parts = [
    r.undecided > 0 ? `${r.undecided} to be decided` : '',
    r.approved > 0 ? `${r.approved} approved and not begun` : '',
    r.underWay > 0 ? `${r.underWay} under way` : '',
    r.done > 0 ? `${r.done} done` : '',
  ].filter((p) => p.length > 0);
  return parts.length > 0 ? `${parts.join(', ')}.` : `Nothing changes for the ${r.same} people on earlier editions; it can be begun.`;
}

/** What waits for a roll-out, on the page of the rulebook. */
export function Rollouts() {
  const queries = useQueryClient();
  const navigate = useNavigate();
  const list = useQuery({ queryKey: ['rollouts', 'list'], queryFn: () => ask(api.GET('/api/v1/rollouts')) });
  const make = useMutation({
    mutationFn: () => ask(api.POST('/api/v1/rollouts')),
    onSuccess: (made) => {
      void queries.invalidateQueries({ queryKey: ['rollouts'] });
      void navigate({ to: '/rollouts/$id', params: { id: String(made.summary.number) }, search: allOfIt });
    },
  });
  if (list.isError) return <Failure error={list.error} again={() => void list.refetch()} />;
  if (!list.data || list.data.items.length === 0) return null;
  const open = list.data.items.filter((r) => !ends.includes(r.state));
  const last = list.data.items[0];
  return (
    <section className={`${style.sheet} ${style.story} ${book.proposals}`} aria-labelledby="rollouts">
      <div className={style.title}>
        <h2 id="rollouts">{open.length > 0 ? 'Reaches people by a roll-out' : 'Roll-outs'}</h2>
        {open.length === 0 && last?.state !== 'done' && (
          <Button kind="quiet" isDisabled={make.isPending} onPress={() => make.mutate()}>
            Make a new one for who is left
          </Button>
        )}
      </div>
      {make.isError && <Failure error={make.error} />}
      <ul className={style.list}>
        {(open.length > 0 ? open : list.data.items.slice(0, 1)).map((r) => (
          <li key={r.id}>
            <span>
              <Link to="/rollouts/$id" params={{ id: String(r.number) }} search={allOfIt}>
                Roll-out {r.number} of edition {r.edition}
              </Link>{' '}
              <StateMark state={r.state} />
            </span>
            <span className={style.quiet}>
              {count(r.people, 'person differs', 'people differ')}, {r.losing} would have less · {agoText(r.madeAt)}
            </span>
            <span>{standing(r)}</span>
          </li>
        ))}
      </ul>
    </section>
  );
}

/** The same on the page a day begins with. */
export function RolloutNotices({ rows }: { rows: Summary[] }) {
  return rows.map((r) => (
    <Notice
      key={r.id}
      tone={r.state === 'stopped' ? 'bad' : 'calm'}
      title={`Edition ${r.edition} waits to reach ${count(r.people, 'person', 'people')}`}
    >
      <p>{standing(r)}</p>
      <Link to="/rollouts/$id" params={{ id: String(r.number) }} search={allOfIt}>
        Roll-out {r.number}
      </Link>
    </Notice>
  ));
}

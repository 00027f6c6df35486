import { useMutation, useQuery, useQueryClient } from '@tanstack/react-query';
import { Link, useParams } from '@tanstack/react-router';
import { api, ask, type Rollout, type Schemas } from '../../api/client';
import { Failure, Loading, Notice } from '../../parts/Notice';
import { StateMark } from '../../parts/StateMark';
import { agoText, at } from '../../parts/when';
import style from '../common/Rooms.module.css';
import { Who } from '../common/Who';
import { Bars, Figure } from '../service/Figures';
import { type Act, Decide, Moves, pauses, people, perform, type Step, verdicts } from './RolloutDeeds';
import { People } from './RolloutPeople';
import { allOfIt, standing } from './Rollouts';
import page from './Rollouts.module.css';
import book from './Rulebook.module.css';
export function RolloutPage() {
  const { id } = useParams({ from: '/shell/rollouts/$id' });
  const queries = useQueryClient();
  const one = useQuery({
    queryKey: ['rollouts', id],
    queryFn: () => ask(api.GET('/api/v1/rollouts/{id}', { params: { path: { id } } })),
  });
  const act: Act = useMutation({
    mutationFn: (step: Step) => perform(id, step),
    onSettled: () => void queries.invalidateQueries({ queryKey: ['rollouts'] }),
  });
  if (one.isPending) return <Loading what="The roll-out" />;
  if (one.isError) return <Failure error={one.error} again={() => void one.refetch()} />;
  const r = one.data;
  const s = r.summary;
  return (
    <>
      <header className={style.head}>
        <div className={style.title}>
          <h1>
            Roll-out {s.number} of edition {s.edition}
          </h1>
          <StateMark state={s.state} />
        </div>
        <p>
          Published by <Who user={s.author} /> {agoText(s.madeAt)}. It puts everybody who is on an earlier edition on edition {s.edition}.
        </p>
      </header>
      {act.isError && <Failure error={act.error} />}
      <div className={style.columns}>
        <div className={style.stack}>
          <section className={`${style.sheet} ${style.story}`} aria-label="What it is waiting for">
            <p className={style.now}>{standing(s)}</p>
            {r.nextAt && <p>The next wave begins {at(r.nextAt)}.</p>}
            {r.brake && (
              <Notice tone={r.releasedBy ? 'calm' : 'bad'} title={r.brake}>
                {r.releasedBy && (
                  <p>
                    <Who user={r.releasedBy} /> let it pass.
                  </p>
                )}
              </Notice>
            )}
            <Moves rollout={r} act={act} />
          </section>
          <section className={style.sheet} aria-labelledby="figures">
            <h2 id="figures">What it does</h2>
            <div className={book.figures}>
              <Figure count={s.people} word={s.people === 1 ? 'person differs' : 'people differ'} />
              <Figure count={s.losing} word="would have less" />
              <Figure count={s.same} word="unchanged" />
              {s.failing > 0 && <Figure count={s.failing} word="it cannot serve" />}
              <Figure count={s.undecided} word="undecided" />
              <Figure count={s.done} word="done" />
            </div>
          </section>
          {r.departments.length > 0 && <Departments rollout={r} act={act} />}
          {r.templates.length > 0 && (
            <div className={book.halves}>
              <Bars title="By template" tallies={r.templates} narrow />
              <Bars title="By entitlement" tallies={r.entitlements} narrow />
            </div>
          )}
          <People rollout={r} />
        </div>
        <aside className={style.stack}>
          <Waves rollout={r} />
          <Decisions rollout={r} />
        </aside>
      </div>
    </>
  );
}

/** What comes next, for who may do it. */
function Departments({ rollout, act }: { rollout: Rollout; act: Act }) {
  return (
    <section className={style.sheet} aria-labelledby="departments">
      <h2 id="departments">By department</h2>
      <table className={style.grants}>
        <thead>
          <tr>
            <th scope="col">Department</th>
            <th scope="col">Differ</th>
            <th scope="col">Less</th>
            <th scope="col">Stands</th>
            <th scope="col">
              <span className="unseen">Decide</span>
            </th>
          </tr>
        </thead>
        <tbody>
          {rollout.departments.map((d) => (
            <tr key={d.department}>
              <td>
                <Link to="/rollouts/$id" params={{ id: String(rollout.summary.number) }} search={{ ...allOfIt, department: d.department }}>
                  {d.department || 'none'}
                </Link>
              </td>
              <td>{d.people}</td>
              <td>{d.losing}</td>
              <td>{standsOf(d)}</td>
              <td className={page.decide}>
                {d.mayDecide &&
                  d.digest &&
                  verdicts.map(([verdict, word]) => (
                    <Decide
                      key={verdict}
                      verdict={verdict}
                      word={word}
                      digest={d.digest ?? ''}
                      department={d.department}
                      count={d.covers}
                      act={act}
                      small
                    />
                  ))}
              </td>
            </tr>
          ))}
        </tbody>
      </table>
    </section>
  );
}

function standsOf(d: Schemas['RolloutDepartment']): string {
  const parts: [number, string][] = [
    [d.undecided, 'undecided'],
    [d.approved, 'approved'],
    [d.done, 'done'],
    [d.declined, 'declined'],
    [d.failing, 'not served'],
  ];
  return parts
    .filter(([count]) => count > 0)
    .map(([count, word]) => `${count} ${word}`)
    .join(', ');
}

function Waves({ rollout }: { rollout: Rollout }) {
  return (
    <section className={style.sheet} aria-labelledby="waves">
      <h2 id="waves">Waves</h2>
      {rollout.waves.length === 0 ? (
        <p className={style.quiet}>None has begun.</p>
      ) : (
        <ol className={page.waves}>
          {rollout.waves.map((w) => (
            <li key={w.wave}>
              <Link to="/rollouts/$id" params={{ id: String(rollout.summary.number) }} search={{ ...allOfIt, wave: w.wave }}>
                {w.wave === 0 ? 'Unchanged' : `Wave ${w.wave}`}
              </Link>
              <meter min={0} max={w.people} value={w.done} aria-label={`${w.done} of ${w.people} done`} />
              <small>{waveText(w)}</small>
            </li>
          ))}
        </ol>
      )}
      {rollout.waveSize && (
        <p className={style.quiet}>
          {people(rollout.waveSize)} each;{' '}
          {rollout.pause ? `a pause of ${pauses.find(([p]) => p === rollout.pause)?.[1] ?? rollout.pause}` : 'each waits to be begun'}.
        </p>
      )}
    </section>
  );
}

function waveText(w: Schemas['RolloutWave']): string {
  const parts = [`${w.done} of ${w.people} done`];
  if (w.underWay > 0) parts.push(`${w.underWay} under way`);
  if (w.turnedBack > 0) parts.push(`${w.turnedBack} turned back`);
  return parts.join(', ');
}

function Decisions({ rollout }: { rollout: Rollout }) {
  if (rollout.decisions.length === 0) return null;
  return (
    <section className={style.sheet} aria-labelledby="decisions">
      <h2 id="decisions">Decisions</h2>
      <ul className={style.list}>
        {rollout.decisions.map((d) => (
          <li key={d.at + d.actor}>
            <span>
              <Who user={d.actor} /> {d.verdict} {people(d.people)}
              {d.department ? ` of ${d.department}` : ''}
            </span>
            <small className={style.quiet}>
              {agoText(d.at)}
              {d.remark ? `: “${d.remark}”` : ''}
            </small>
          </li>
        ))}
      </ul>
    </section>
  );
}

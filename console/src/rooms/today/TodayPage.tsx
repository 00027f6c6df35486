import { useQuery } from '@tanstack/react-query';
import { Link } from '@tanstack/react-router';
import type { ReactNode } from 'react';
import { api, ask, type RequestSummary, type Schemas } from '../../api/client';
import { count } from '../../parts/count';
import { Failure, Loading, Notice } from '../../parts/Notice';
import { ended, StateMark } from '../../parts/StateMark';
import { ago, at } from '../../parts/when';
import { useMe } from '../../shell/Shell';
import rooms from '../common/Rooms.module.css';
import { spelledBy, useNamed, Who } from '../common/Who';
import { allRequests } from '../requests/requestSearch';
import { RolloutNotices } from '../rulebook/Rollouts';
import style from './Today.module.css';

const weekday = new Intl.DateTimeFormat('en-GB', { weekday: 'short', timeZone: 'UTC' });
const month = new Intl.DateTimeFormat('en-GB', { month: 'short', timeZone: 'UTC' });

const waits = 'waits on ';

/** What a day begins with: what waits for me, who starts soon and is not ready, what is stuck and why. */
export function TodayPage() {
  const me = useMe();
  const named = useNamed();
  const today = useQuery({ queryKey: ['requests', 'today'], queryFn: () => ask(api.GET('/api/v1/today')), refetchInterval: 60_000 });
  if (today.isPending) return <Loading what="Today" />;
  if (today.isError) return <Failure error={today.error} again={() => void today.refetch()} />;
  const t = today.data;
  const hour = new Date().getHours();
  const greeting = hour < 12 ? 'Good morning' : hour < 18 ? 'Good afternoon' : 'Good evening';
  return (
    <>
      <header className={rooms.head}>
        <h1>
          {greeting}, {me.data?.display.split(' ')[0]}
        </h1>
        <p>{headline(t)}</p>
      </header>
      {t.counts.length > 0 && (
        <ul className={style.counts} aria-label="Open requests">
          {t.counts.map((c) => (
            <li key={c.name}>
              <Link to="/requests" search={{ ...allRequests, state: c.name }}>
                <b>{c.count}</b> <span>{c.title}</span>
              </Link>
            </li>
          ))}
        </ul>
      )}
      <div className={style.grid}>
        <div className={rooms.stack}>
          <Sheet id="mine" title="Waits for you" more={t.mineCount > t.mine.length ? <Link to="/inbox">All {t.mineCount}</Link> : null}>
            {t.mine.length === 0 ? (
              <p className={rooms.quiet}>Nothing. What needs you appears here by itself.</p>
            ) : (
              <Requests rows={t.mine} side={(r) => ago(r.since)} />
            )}
          </Sheet>
          {t.attention.length > 0 && (
            <Sheet id="attention" title="Needs a look">
              <ul className={style.plain}>
                {t.attention.map((a) => (
                  <li key={a.text} className={style.row}>
                    <Link to={a.link}>{attentions[a.kind] ?? a.kind}</Link>
                    <small>{spelledBy(named, a.text)}</small>
                  </li>
                ))}
              </ul>
            </Sheet>
          )}
          {t.tasks.length > 0 && (
            <Sheet
              id="tasks"
              title="Work to do"
              more={
                <Link to="/desk" search={{ task: undefined }}>
                  Desk
                </Link>
              }
            >
              <ul className={style.plain}>
                {t.tasks.map((task) => (
                  <li key={task.id} className={style.row}>
                    <Link to="/desk" search={{ task: task.id }}>
                      {task.title}
                    </Link>
                    <small>
                      {task.target}, {task.site} · request {task.requestNumber}
                    </small>
                    <aside className={task.late ? style.bad : undefined}>{task.late ? 'late' : `due ${at(task.due)}`}</aside>
                  </li>
                ))}
              </ul>
            </Sheet>
          )}
          {(t.late.length > 0 || t.stuck.length > 0) && (
            <Sheet id="stuck" title="Stuck and late">
              <ul className={style.plain}>
                {[...t.stuck, ...t.late.filter((l) => !t.stuck.some((s) => s.id === l.id))].map((r) => (
                  <li key={r.id} className={style.row}>
                    <Link to="/requests/$id" params={{ id: r.id }}>
                      {r.person}, {r.kind} {r.number}
                    </Link>
                    <small>
                      {r.problem ?? (
                        <>
                          Nobody decided in time; it waits on <Who user={r.waitsOn} />.
                        </>
                      )}
                    </small>
                    <aside className={style.bad}>{ago(r.since)}</aside>
                  </li>
                ))}
              </ul>
            </Sheet>
          )}
          <Sheet
            id="own"
            title="Your requests"
            more={
              <Link to="/requests" search={{ ...allRequests, requester: 'me' }}>
                All
              </Link>
            }
          >
            {t.own.length === 0 ? (
              <p className={rooms.quiet}>None is open.</p>
            ) : (
              <Requests rows={t.own} side={(r) => <StateMark state={ended(r)} />} />
            )}
          </Sheet>
        </div>
        <aside className={rooms.stack}>
          <Sheet id="starters" title="Start soon or started, not ready">
            {t.starters.length === 0 ? (
              <p className={rooms.quiet}>Everybody who starts in the next two weeks is ready.</p>
            ) : (
              <ul className={style.plain}>
                {t.starters.map((s) => {
                  const day = new Date(`${s.start}T00:00:00Z`);
                  return (
                    <li key={s.requestId} className={style.starter}>
                      <span className={style.day}>
                        <small>{weekday.format(day)}</small>
                        <b>{day.getUTCDate()}</b>
                        <small>{month.format(day)}</small>
                      </span>
                      <span>
                        <Link to="/requests/$id" params={{ id: s.requestId }}>
                          {s.person}
                        </Link>
                        <br />
                        <small>
                          {s.department}, {s.site} · {s.start < t.at.slice(0, 10) && <b className={style.bad}>first day is over</b>}{' '}
                          {s.now.startsWith(waits) ? (
                            <>
                              {waits}
                              <Who user={s.now.slice(waits.length)} />
                            </>
                          ) : (
                            s.now
                          )}
                        </small>
                      </span>
                    </li>
                  );
                })}
              </ul>
            )}
          </Sheet>
          {t.standing.map((problem) => (
            <Notice key={problem} tone="bad" title="The service needs somebody">
              <p>{problem}</p>
            </Notice>
          ))}
          <RolloutNotices rows={t.rollouts} />
          {t.held.map((run) => (
            <Notice key={run.runId} title={`${run.source}: a run is under the brake`}>
              <p>{run.why}</p>
              <Link to="/sources/$name" params={{ name: run.source }}>
                See what it would raise
              </Link>
            </Notice>
          ))}
          {t.targets.map((target) => (
            <Notice key={target.name} tone="bad" title={`${target.title}: ${count(target.failing, 'step fails', 'steps fail')}`}>
              <p>{target.problem}</p>
            </Notice>
          ))}
        </aside>
      </div>
    </>
  );
}

const attentions: Record<string, string> = {
  disagreement: 'HR and a manager disagree',
  vanished: 'Records vanished',
  'set-aside': 'Rows stand aside',
  'unknown-manager': 'Unknown managers',
  'ends-soon': 'Ends soon',
};

function headline(t: Schemas['TodayView']): string {
  const parts = [
    t.mineCount > 0 ? `${count(t.mineCount, 'request waits', 'requests wait')} for you` : '',
    t.taskCount > 0 ? `${count(t.taskCount, 'piece')} of work by hand` : '',
    t.starters.length > 0 ? `${t.starters.length} of those who start ${t.starters.length === 1 ? 'is' : 'are'} not ready` : '',
    t.stuckCount > 0 ? `${t.stuckCount} stuck` : '',
  ].filter((p) => p.length > 0);
  return parts.length > 0 ? `${parts.join(', ')}.` : 'Nothing waits for you, and nothing is stuck.';
}

function Requests({ rows, side }: { rows: RequestSummary[]; side: (row: RequestSummary) => ReactNode }) {
  return (
    <ul className={style.plain}>
      {rows.map((r) => (
        <li key={r.id} className={style.row}>
          <Link to="/requests/$id" params={{ id: r.id }}>
            {r.person}, {r.kind}
          </Link>
          <small>
            {r.department}, {r.site} · {r.stage || r.stateText}
            {r.late ? ' · late' : ''}
          </small>
          <aside>{side(r)}</aside>
        </li>
      ))}
    </ul>
  );
}

function Sheet({ id, title, more, children }: { id: string; title: string; more?: ReactNode; children: ReactNode }) {
  return (
    <section className={rooms.sheet} aria-labelledby={id}>
      <header className={rooms.line}>
        <h2 id={id}>{title}</h2>
        {more}
      </header>
      {children}
    </section>
  );
}

import { useQuery } from '@tanstack/react-query';
import { Link, useParams } from '@tanstack/react-router';
import { api, ask, type PersonDetail } from '../../api/client';
import { type Bar, Lifeline } from '../../parts/Lifeline';
import { Failure, Loading, Notice } from '../../parts/Notice';
import { Pair } from '../../parts/Pair';
import { ended, StateMark } from '../../parts/StateMark';
import { ago, at, moment, onDay } from '../../parts/when';
import { useMe } from '../../shell/Shell';
import style from '../common/Rooms.module.css';
import { accountOf, slotted, useWords } from '../common/words';
import { ExplainButton } from '../requests/Explain';
import { HistoryList } from '../requests/HistoryList';
import { Titled } from '../requests/Plan';
import { EndAccess } from './EndAccess';
import { Findings } from './Findings';
import { PersonRecord } from './Retention';

export function PersonPage() {
  const { id } = useParams({ from: '/shell/people/$id' });
  const person = useQuery({
    queryKey: ['people', 'one', id],
    queryFn: () => ask(api.GET('/api/v1/people/{id}', { params: { path: { id } } })),
  });
  if (person.isPending) return <Loading what="The person" />;
  if (person.isError) return <Failure error={person.error} again={() => void person.refetch()} />;
  return <Person person={person.data} />;
}

function barsOf(person: PersonDetail, titleOf: (account: string) => string): Bar[] {
  return [
    { name: `${person.kind}, ${person.department}`, kind: 'employment', from: person.termStart, until: person.termEnd },
    ...person.accounts.map(
      (a): Bar => ({
        // Whoever has several has them under one name mostly: where each is tells them apart.
        name: person.accounts.length > 1 ? titleOf(accountOf(a.target, a.slot)) : a.name,
        kind: 'account',
        from: a.since,
        until: a.until,
        note: a.enabled ? 'enabled' : 'disabled',
        rests: !a.enabled,
      }),
    ),
    ...person.grants.map((g): Bar => ({ name: slotted(g.title, g.slot), kind: 'grant', from: g.from, until: g.until })),
  ];
}

/** A day is shown as a day; whatever else, as it is. */
const dayOf = (value: string) => (/^\d{4}-\d\d-\d\d$/.test(value) ? onDay(value) : value);

function Person({ person }: { person: PersonDetail }) {
  const me = useMe();
  const words = useWords();
  const place = { zone: person.zone, title: person.siteTitle };
  const may = me.data?.roles.some((role) => role === 'auditor' || role === 'engineer') ?? false;
  return (
    <>
      <header className={style.head}>
        <h1>{person.name}</h1>
        <p>
          {person.number} · {person.title}, {person.department} · {person.siteTitle} · {person.kind} from {onDay(person.start)}{' '}
          {person.end ? `until ${onDay(person.end)}` : 'on'}
        </p>
      </header>
      <div className={style.stack}>
        {person.forgottenAt && (
          <Notice title={`Forgotten on ${at(person.forgottenAt)}`}>
            What was held of this person is gone, by {person.forgottenBy}. That something happened, and when, stays on the ledger.
          </Notice>
        )}
        <section className={style.sheet} aria-labelledby="lifeline">
          <h2 id="lifeline">Lifeline</h2>
          <Lifeline
            title={`Employment, accounts and grants of ${person.name} over time`}
            bars={barsOf(person, words.target)}
            marks={person.scheduled.map((s) => ({ at: s.due, text: s.text }))}
          />
        </section>
        <div className={style.columns}>
          <div className={style.stack}>
            <section className={style.sheet} aria-labelledby="accounts">
              <h2 id="accounts">Accounts</h2>
              <Findings person={person} />
              {person.accounts.length === 0 && <p className={style.quiet}>No account.</p>}
              {person.accounts.map((a) => (
                <details key={a.immutableId}>
                  <summary>
                    <b>{a.name}</b> in {words.target(accountOf(a.target, a.slot))}, {a.enabled ? 'enabled' : 'disabled'}, since{' '}
                    {at(a.since)}
                  </summary>
                  <dl className={style.facts}>
                    {a.attributes.map((x) => (
                      <Pair key={x.name} name={<Titled title={words.held(a.target, x.name)} name={x.name} />} value={x.value} />
                    ))}
                    <dt>Where</dt>
                    <dd>{a.location}</dd>
                    <dt>Id in the target</dt>
                    <dd>{a.immutableId}</dd>
                  </dl>
                </details>
              ))}
            </section>
            <section className={style.sheet} aria-labelledby="grants">
              <div className={style.title}>
                <h2 id="grants">Grants</h2>
                <ExplainButton person={person.id} title={person.name} label="Why not something else?" />
              </div>
              {person.grants.length === 0 ? (
                <p className={style.quiet}>No grant.</p>
              ) : (
                <table className={style.grants}>
                  <thead>
                    <tr>
                      <th scope="col">Entitlement</th>
                      <th scope="col">From</th>
                      <th scope="col">Until</th>
                      <th scope="col">Because of</th>
                      <th scope="col">
                        <span className="unseen">Explanation</span>
                      </th>
                    </tr>
                  </thead>
                  <tbody>
                    {person.grants.map((g) => (
                      <tr key={g.target + g.slot + g.entitlement + g.from}>
                        <td>
                          <b>{slotted(g.title, g.slot)}</b>
                        </td>
                        <td>{moment(g.from, place, 'begin')}</td>
                        <td>
                          {g.until ? `${moment(g.until, place, 'end')}${Date.parse(g.until) > Date.now() ? ', planned' : ''}` : 'open'}
                        </td>
                        <td>
                          {g.reason.rule}: {g.reason.condition}
                        </td>
                        <td>
                          <ExplainButton person={person.id} of={`${accountOf(g.target, g.slot)}/${g.entitlement}`} title={g.title} />
                          {g.mayEnd && (
                            <EndAccess
                              person={person}
                              entitlement={`${accountOf(g.target, g.slot)}/${g.entitlement}`}
                              title={slotted(g.title, g.slot)}
                            />
                          )}
                        </td>
                      </tr>
                    ))}
                  </tbody>
                </table>
              )}
            </section>
            <section className={style.sheet} aria-labelledby="requests">
              <h2 id="requests">Requests</h2>
              {person.requests.length === 0 ? (
                <p className={style.quiet}>None.</p>
              ) : (
                <ul className={style.list}>
                  {person.requests.map((r) => (
                    <li key={r.id}>
                      <span>
                        <Link to="/requests/$id" params={{ id: r.id }}>
                          Request {r.number}, {r.kind}
                        </Link>{' '}
                        <StateMark state={ended(r)} /> <span className={style.quiet}>{ago(r.since)}</span>
                      </span>
                    </li>
                  ))}
                </ul>
              )}
            </section>
            {may ? <PersonRecord person={person} /> : null}
            <HistoryList of="people" id={person.id} />
          </div>
          <aside className={style.stack}>
            <section className={style.sheet} aria-labelledby="record">
              <h2 id="record">Record</h2>
              <dl className={style.facts}>
                {person.managerName && (
                  <>
                    <dt>{words.attribute('manager')}</dt>
                    <dd>
                      {person.managerId ? (
                        <Link to="/people/$id" params={{ id: person.managerId }}>
                          {person.managerName}
                        </Link>
                      ) : (
                        person.managerName
                      )}
                    </dd>
                  </>
                )}
                {person.record
                  .filter((x) => x.name !== 'manager' || !person.managerName)
                  .map((x) => (
                    <Pair
                      key={x.name}
                      name={words.attribute(x.name)}
                      value={x.name === 'site' ? (words.place(x.value)?.title ?? x.value) : dayOf(x.value)}
                    />
                  ))}
                <dt>Time zone</dt>
                <dd>{person.zone}</dd>
                <dt>Source</dt>
                <dd>{person.source}</dd>
                {person.edition && (
                  <>
                    <dt>Rulebook</dt>
                    <dd>
                      on edition {person.edition}
                      {person.newestEdition !== person.edition ? `; the newest is ${person.newestEdition}` : ''}
                    </dd>
                  </>
                )}
              </dl>
            </section>
            {person.scheduled.length > 0 && (
              <section className={style.sheet} aria-labelledby="scheduled">
                <h2 id="scheduled">Scheduled</h2>
                <ul className={style.list}>
                  {person.scheduled.map((s) => (
                    <li key={s.due + s.text}>
                      <b>{moment(s.due, place, 'begin')}</b>
                      <span>{s.text}</span>
                    </li>
                  ))}
                </ul>
              </section>
            )}
          </aside>
        </div>
      </div>
    </>
  );
}

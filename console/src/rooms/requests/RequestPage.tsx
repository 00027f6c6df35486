import { useMutation, useQuery, useQueryClient } from '@tanstack/react-query';
import { Link, useParams } from '@tanstack/react-router';
import { useState } from 'react';
import { api, ask, type RequestDetail } from '../../api/client';
import { Button } from '../../parts/Button';
import { Failure, Loading, Notice } from '../../parts/Notice';
import { ended, StateMark } from '../../parts/StateMark';
import { ago, at, moment } from '../../parts/when';
import { useMe } from '../../shell/Shell';
import style from '../common/Rooms.module.css';
import { spelledBy, useNamed, Who } from '../common/Who';
import { useWords } from '../common/words';
import { Deeds } from './Deeds';
import { Effect } from './Effect';
import { HistoryList } from './HistoryList';
import { ItemList } from './ItemList';
import { Plan, stepsOf, Titled } from './Plan';
import { Stages } from './Stages';

export function RequestPage() {
  const { id } = useParams({ from: '/shell/requests/$id' });
  const request = useQuery({
    queryKey: ['requests', 'one', id],
    queryFn: () => ask(api.GET('/api/v1/requests/{id}', { params: { path: { id } } })),
  });
  if (request.isPending) return <Loading what="The request" />;
  if (request.isError) return <Failure error={request.error} again={() => void request.refetch()} />;
  return <Request request={request.data} />;
}

/** The one-time link to a first password, when it was lost, ran out, or went to the wrong place. */
function NewLink({ request }: { request: RequestDetail }) {
  const send = useMutation({
    mutationFn: () => ask(api.POST('/api/v1/requests/{id}/new-link', { params: { path: { id: request.summary.id } } })),
  });
  if (!request.rights.newLink) return null;
  return (
    <section className={style.sheet} aria-labelledby="first-password">
      <h2 id="first-password">First password</h2>
      <p className={style.quiet}>It is shown once, to whom the link was sent. A new link ends the one before it.</p>
      {send.isError && <Failure error={send.error} />}
      {send.data && <Notice tone="good" title={`A new link went to ${send.data.receivers.join(', ')}`} />}
      <div className={style.actions}>
        <Button onPress={() => send.mutate()} isDisabled={send.isPending}>
          Send a new link
        </Button>
      </div>
    </section>
  );
}

/** What a plan without changes means. */
function emptyPlan({ items, summary }: RequestDetail): string {
  if (items.length > 0) return `${items.map((i) => i.title).join(', ')}: recorded as asked for; nothing changes today.`;
  return summary.state === 'completed' ? 'Nothing needed to change.' : 'The plan is not made yet.';
}

function Request({ request }: { request: RequestDetail }) {
  const { summary, story } = request;
  const [without, setWithout] = useState<ReadonlySet<string>>(new Set());
  const place = useWords().place(summary.site);
  const named = useNamed();
  const spell = (sentence: string) => spelledBy(named, sentence);
  const remarks = request.decisions.filter((d) => d.verdict !== 'skipped');
  return (
    <>
      <header className={style.head}>
        <div className={style.title}>
          <h1>{summary.account ?? summary.person}</h1>
          <StateMark state={request.held ? 'held' : ended(summary)} />
          {summary.late && <span className={`${style.tag} ${style.tagNew}`}>late</span>}
        </div>
        <p>
          Request {summary.number}, {summary.kind} · {request.workflowTitle} ·{' '}
          <Link to="/people/$id" params={{ id: summary.personId }}>
            {summary.account ? `${summary.person} answers for it` : summary.personNumber}
          </Link>{' '}
          · {summary.department}, {place?.title ?? summary.site} · edition{' '}
          {request.from ? `${request.from} → ${request.edition}` : request.edition}
        </p>
      </header>
      <div className={style.columns}>
        <div className={style.stack}>
          <section className={`${style.sheet} ${style.story}`} aria-label="Where it stands" aria-live="polite">
            <p className={style.quiet}>{request.cause.text}</p>
            <p className={style.now}>{spell(story.now)}</p>
            <p>{spell(story.next)}</p>
            {request.noneLeft?.map((text) => (
              <Notice key={text} tone="bad" title="It cannot be given now">
                <p>{text}</p>
              </Notice>
            ))}
            <Deeds request={request} without={without} setWithout={setWithout} />
            {request.milestones.length > 0 && (
              <div className={style.milestones}>
                {request.milestones.map((m) => (
                  <span key={m.name} className={style.milestone}>
                    <StateMark state={m.reached ? 'done' : 'pending'} />
                    <b>{m.title}</b>
                    <small className={style.fine}>
                      {[m.at && `${m.reached ? '' : 'expected '}${moment(m.at, m.reached ? undefined : place, 'begin')}`, m.text]
                        .filter(Boolean)
                        .join(' · ')}
                    </small>
                  </span>
                ))}
              </div>
            )}
          </section>
          {request.candidates.length > 0 && <Candidates request={request} />}
          <section className={style.sheet} aria-labelledby="plan">
            <h2 id="plan">The whole effect</h2>
            {request.plan.length > 0 && <Effect effect={request.effect} place={place} />}
            {request.items.length > 0 &&
              request.rights.approve &&
              (request.plan.length === 0 || request.rights.inPart || request.items.some((i) => i.mark) || request.gone.length > 0) && (
                <ItemList request={request} without={without} setWithout={setWithout} />
              )}
            {request.plan.length > 0 && <h3 className={style.stepwise}>Step by step</h3>}
            {request.plan.length > 0 ? (
              <Plan changes={request.plan} steps={stepsOf(summary.state, request.steps)} place={place} />
            ) : (
              <p className={style.quiet}>{emptyPlan(request)}</p>
            )}
          </section>
          <HistoryList of="requests" id={summary.id} />
        </div>
        <aside className={style.stack}>
          <section className={style.sheet} aria-labelledby="waits">
            <h2 id="waits">{summary.completedAt ? 'Over' : 'Waits on'}</h2>
            <dl className={style.facts}>
              <dt>{summary.completedAt ? 'When' : 'Who'}</dt>
              <dd>{summary.completedAt ? at(summary.completedAt) : <Who user={story.waitsOn} />}</dd>
              {!summary.completedAt && (
                <>
                  <dt>Since</dt>
                  <dd>
                    {at(story.since)} ({ago(story.since)})
                  </dd>
                </>
              )}
              {story.unblock && (
                <>
                  <dt>To do</dt>
                  <dd>{spell(story.unblock)}</dd>
                </>
              )}
              <dt>Raised</dt>
              <dd>
                {at(summary.createdAt)} by <Who user={summary.requester} />
              </dd>
              {request.cause.source && (
                <>
                  <dt>Cause</dt>
                  <dd>
                    {request.cause.source}, line {request.cause.line}
                  </dd>
                </>
              )}
            </dl>
          </section>
          {request.stages.length > 0 && (
            <section className={style.sheet} aria-labelledby="stages">
              <h2 id="stages">Who decides</h2>
              <Stages stages={request.stages} items={request.items} />
            </section>
          )}
          {request.cause.differences.length > 0 && (
            <section className={style.sheet} aria-labelledby="cause">
              <h2 id="cause">{request.cause.source ? 'What HR changed' : 'What is to change'}</h2>
              <table className={style.attributes}>
                <tbody>
                  {request.cause.differences.map((d) => (
                    <tr key={d.name}>
                      <th scope="row">{d.name}</th>
                      <td>
                        {d.before.length > 0 && <del>{d.before.join(', ')}</del>} → <ins>{d.after.join(', ') || 'nothing'}</ins>
                      </td>
                    </tr>
                  ))}
                </tbody>
              </table>
            </section>
          )}
          {request.tasks.length > 0 && (
            <section className={style.sheet} aria-labelledby="tasks">
              <h2 id="tasks">Work by hand</h2>
              <ul className={style.list}>
                {request.tasks.map((t) => (
                  <li key={t.id}>
                    <Link to="/desk" search={{ task: t.id }}>
                      {t.title}
                    </Link>
                    <span className={style.quiet}>
                      {t.state === 'open'
                        ? `${t.takenBy ?? `anyone with the role ${t.role}`}, due ${at(t.due)}`
                        : `${t.state} by ${t.doneBy ?? ''}`}
                      {t.remark && `: ${t.remark}`}
                    </span>
                  </li>
                ))}
              </ul>
            </section>
          )}
          <section className={style.sheet} aria-labelledby="record">
            <h2 id="record">What was said and done</h2>
            {remarks.length === 0 ? (
              <p className={style.quiet}>Nothing yet.</p>
            ) : (
              <ul className={style.thread}>
                {remarks.map((d, index) => (
                  // biome-ignore lint/suspicious/noArrayIndexKey: the record only grows at its end
                  <li key={index}>
                    <span className={d.counts ? undefined : style.void}>
                      <b>
                        <Who user={d.actor} />
                      </b>
                      {d.onBehalf && d.actor !== 'oikonom' ? (
                        <>
                          {' '}
                          for <Who user={d.onBehalf} />
                        </>
                      ) : null}{' '}
                      {d.verdict}
                      {d.item ? ` ${request.items.find((i) => i.key === d.item)?.title ?? d.item}` : ''} {d.stage && `(${d.stage})`}
                    </span>
                    {d.remark && <q>{d.remark}</q>}
                    <small className={style.quiet}>
                      {at(d.at)}
                      {d.counts ? '' : ' · no longer counts: the plan changed'}
                    </small>
                  </li>
                ))}
              </ul>
            )}
          </section>
          <NewLink request={request} />
          <LedgerOf request={request} />
        </aside>
      </div>
    </>
  );
}

function Candidates({ request }: { request: RequestDetail }) {
  const words = useWords();
  const queries = useQueryClient();
  const choose = useMutation({
    mutationFn: (entry: { target: string; immutableId: string }) =>
      ask(api.POST('/api/v1/requests/{id}/choose', { params: { path: { id: request.summary.id } }, body: entry })),
    onSuccess: () => queries.invalidateQueries({ queryKey: ['requests'] }),
  });
  return (
    <section className={style.sheet} aria-labelledby="candidates">
      <h2 id="candidates">Which of these is {request.summary.person}?</h2>
      {choose.isError && <Failure error={choose.error} />}
      <div className={style.stack}>
        <table className={style.beside}>
          <thead>
            <tr>
              <th scope="col">
                <span className="unseen">What</span>
              </th>
              {request.candidates.map((c) => (
                <th scope="col" key={c.immutableId}>
                  {c.name}
                </th>
              ))}
            </tr>
          </thead>
          <tbody>
            {sideBySide(request.candidates, words).map(({ key, title, name, values }) => (
              <tr key={key} className={new Set(values).size > 1 ? style.differs : undefined}>
                <th scope="row">{name ? <Titled title={title} name={name} /> : title}</th>
                {values.map((value, index) => (
                  <td key={request.candidates[index]?.immutableId}>{value || '–'}</td>
                ))}
              </tr>
            ))}
            {request.rights.choose && (
              <tr>
                <td />
                {request.candidates.map((c) => (
                  <td key={c.immutableId}>
                    <Button
                      kind="main"
                      isDisabled={choose.isPending}
                      onPress={() => choose.mutate({ target: c.target, immutableId: c.immutableId })}
                    >
                      This one
                    </Button>
                  </td>
                ))}
              </tr>
            )}
          </tbody>
        </table>
        {!request.rights.choose && <Notice title="An operator chooses" />}
      </div>
    </section>
  );
}

/** Lines in which entries can be told apart, each with a value for every entry. */
function sideBySide(all: RequestDetail['candidates'], words: ReturnType<typeof useWords>) {
  const target = all[0]?.target ?? '';
  const names = [...new Set(all.flatMap((c) => c.attributes.map((a) => a.name)))].sort();
  return [
    { key: ' where', title: 'Where', name: '', values: all.map((c) => c.location) },
    { key: ' by', title: 'Matched by', name: '', values: all.map((c) => words.held(c.target, c.matchedBy)) },
    { key: ' state', title: 'State', name: '', values: all.map((c) => (c.enabled ? 'open' : 'locked')) },
    { key: ' last', title: 'Last log-on', name: '', values: all.map((c) => (c.lastLogOn ? at(c.lastLogOn) : 'not known')) },
    { key: ' holds', title: 'Holds', name: '', values: all.map((c) => c.entitlements.join(', ')) },
    ...names.map((name) => ({
      key: name,
      title: words.held(target, name),
      name,
      values: all.map((c) => c.attributes.find((a) => a.name === name)?.value ?? ''),
    })),
  ];
}

/** The ledger entries of the request, for those who may read the ledger. */
function LedgerOf({ request }: { request: RequestDetail }) {
  const me = useMe();
  const may = me.data?.roles.some((role) => role === 'auditor' || role === 'engineer') ?? false;
  const ledger = useQuery({
    meta: { what: 'The ledger of this request' },
    queryKey: ['requests', 'ledger', request.summary.id],
    queryFn: () => ask(api.GET('/api/v1/ledger', { params: { query: { request: request.summary.id, limit: 100 } } })),
    enabled: may,
  });
  if (!may) return null;
  return (
    <section className={style.sheet} aria-labelledby="ledger">
      <h2 id="ledger">Ledger</h2>
      <ul className={style.list}>
        {ledger.data?.items.map((entry) => (
          <li key={entry.id}>
            <span>
              <b>{entry.kind}</b> by {entry.actor}
            </span>
            <span className={style.quiet}>
              {at(entry.at)} · {entry.position === null ? 'not sealed yet' : `sealed at ${entry.position}`}
            </span>
          </li>
        ))}
      </ul>
    </section>
  );
}

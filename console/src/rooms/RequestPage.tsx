import { useMutation, useQuery, useQueryClient } from '@tanstack/react-query';
import { Link, useParams } from '@tanstack/react-router';
import { useEffect, useState } from 'react';
import { api, ask, Refusal, type RequestDetail } from '../api/client';
import { Button } from '../parts/Button';
import { Dialog, DialogActions } from '../parts/Dialog';
import { Field } from '../parts/Field';
import { Failure, Loading, Notice } from '../parts/Notice';
import { StateMark } from '../parts/StateMark';
import { ago, at } from '../parts/when';
import { useMe } from '../shell/Shell';
import { isTyping } from '../shell/useGoKeys';
import { Plan, summaryOf } from './Plan';
import style from './Rooms.module.css';

type Deed = 'approve' | 'decline' | 'release' | 'retry';

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

function Request({ request }: { request: RequestDetail }) {
  const { summary, story } = request;
  return (
    <>
      <header className={style.head}>
        <div className={style.title}>
          <h1>{summary.person}</h1>
          <StateMark state={summary.state} />
        </div>
        <p>
          Request {summary.number}, {summary.kind} ·{' '}
          <Link to="/people/$id" params={{ id: summary.personId }}>
            {summary.personNumber}
          </Link>{' '}
          · {summary.department}, {summary.site} · edition {request.edition}
        </p>
      </header>
      <div className={style.columns}>
        <div className={style.stack}>
          <section className={`${style.sheet} ${style.story}`} aria-label="Where it stands" aria-live="polite">
            <ul>
              {story.done.map((line) => (
                <li key={line}>{line}</li>
              ))}
            </ul>
            <p className={style.now}>{story.now}</p>
            <p>{story.next}</p>
            <Deeds request={request} />
          </section>
          {request.candidates.length > 0 && <Candidates request={request} />}
          <section className={style.sheet} aria-labelledby="plan">
            <h2 id="plan">The whole effect</h2>
            {request.plan.length > 0 && <p className={style.effect}>{summaryOf(request.plan)}</p>}
            {request.plan.length > 0 ? (
              <Plan changes={request.plan} steps={request.steps} />
            ) : (
              <p className={style.quiet}>{summary.state === 'completed' ? 'Nothing needed to change.' : 'The plan is not made yet.'}</p>
            )}
          </section>
        </div>
        <aside className={style.stack}>
          <section className={style.sheet} aria-labelledby="waits">
            <h2 id="waits">{summary.completedAt ? 'Over' : 'Waits on'}</h2>
            <dl className={style.facts}>
              <dt>{summary.completedAt ? 'When' : 'Who'}</dt>
              <dd>{summary.completedAt ? at(summary.completedAt) : story.waitsOn}</dd>
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
                  <dd>{story.unblock}</dd>
                </>
              )}
              <dt>Raised</dt>
              <dd>
                {at(summary.createdAt)} by {summary.requester}
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
          {request.cause.differences.length > 0 && (
            <section className={style.sheet} aria-labelledby="cause">
              <h2 id="cause">What HR changed</h2>
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
          <section className={style.sheet} aria-labelledby="decisions">
            <h2 id="decisions">Decisions</h2>
            {request.decisions.length === 0 ? (
              <p className={style.quiet}>None yet.</p>
            ) : (
              <ul className={style.list}>
                {request.decisions.map((d) => (
                  <li key={d.at + d.actor}>
                    <span>
                      <b>{d.stage}</b>: {d.verdict} by {d.actor}
                    </span>
                    {d.remark && <q>{d.remark}</q>}
                    <span className={style.quiet}>{at(d.at)}</span>
                  </li>
                ))}
              </ul>
            )}
          </section>
          <LedgerOf request={request} />
        </aside>
      </div>
    </>
  );
}

function Deeds({ request }: { request: RequestDetail }) {
  const queries = useQueryClient();
  const [asked, setAsked] = useState<Deed>();
  const [words, setWords] = useState('');
  const { rights, summary } = request;
  const path = { params: { path: { id: summary.id } } };
  const act = useMutation({
    mutationFn: (deed: Deed) => {
      const planDigest = request.planDigest ?? '';
      if (deed === 'approve')
        return ask(api.POST('/api/v1/requests/{id}/approve', { ...path, body: { planDigest, remark: words || null } }));
      if (deed === 'decline') return ask(api.POST('/api/v1/requests/{id}/decline', { ...path, body: { reason: words } }));
      if (deed === 'release') return ask(api.POST('/api/v1/requests/{id}/release', { ...path, body: { planDigest } }));
      return ask(api.POST('/api/v1/requests/{id}/retry', path));
    },
    onSuccess: (after) => {
      queries.setQueryData(['requests', 'one', summary.id], after);
      void queries.invalidateQueries({ queryKey: ['requests'] });
      setAsked(undefined);
      setWords('');
    },
    onError: (error) => {
      if (error instanceof Refusal && error.status === 409) void queries.invalidateQueries({ queryKey: ['requests'] });
    },
  });
  useEffect(() => {
    const press = (event: KeyboardEvent) => {
      if (isTyping(event)) return;
      if (event.key === 'a' && rights.approve) setAsked('approve');
      if (event.key === 'd' && rights.decline) setAsked('decline');
      if (event.key === 'r' && rights.release) setAsked('release');
    };
    window.addEventListener('keydown', press);
    return () => window.removeEventListener('keydown', press);
  }, [rights]);

  const titles: Record<Deed, string> = {
    approve: `Approve the ${summary.kind} request for ${summary.person}?`,
    decline: `Decline the ${summary.kind} request for ${summary.person}?`,
    release: `Release the plan for ${summary.person}?`,
    retry: 'Try again now?',
  };
  const changes = request.plan.filter((c) => c.kind !== 'verify').length;
  return (
    <>
      <div className={style.actions}>
        {rights.approve && (
          <Button kind="main" onPress={() => setAsked('approve')}>
            Approve<kbd>a</kbd>
          </Button>
        )}
        {rights.decline && (
          <Button kind="grave" onPress={() => setAsked('decline')}>
            Decline<kbd>d</kbd>
          </Button>
        )}
        {rights.release && (
          <Button kind="main" onPress={() => setAsked('release')}>
            Release<kbd>r</kbd>
          </Button>
        )}
        {rights.retry && <Button onPress={() => setAsked('retry')}>Try again now</Button>}
        {rights.whyNot && <span className={style.quiet}>{rights.whyNot}</span>}
      </div>
      {asked && (
        <Dialog title={titles[asked]} isOpen close={() => setAsked(undefined)}>
          <form
            onSubmit={(event) => {
              event.preventDefault();
              act.mutate(asked);
            }}
            className={style.stack}
          >
            {asked === 'approve' && (
              <p>You approve exactly the plan you see: {changes} changes. If it becomes another before it runs, it comes back to you.</p>
            )}
            {asked === 'decline' && <p>Nothing will be changed, and {summary.requester} is told why.</p>}
            {asked === 'release' && <p>{changes} changes are carried out now, or at the time each is due.</p>}
            {asked === 'approve' && <Field label="A word with it (may stay empty)" value={words} onChange={setWords} long />}
            {asked === 'decline' && <Field label="Reason" value={words} onChange={setWords} required long autoFocus />}
            {act.isError && <Failure error={act.error} />}
            <DialogActions>
              <Button onPress={() => setAsked(undefined)}>Back</Button>
              <Button
                kind={asked === 'decline' ? 'grave' : 'main'}
                type="submit"
                isDisabled={act.isPending}
                autoFocus={asked !== 'decline'}
              >
                {{ approve: 'Approve', decline: 'Decline', release: 'Release', retry: 'Try again' }[asked]}
              </Button>
            </DialogActions>
          </form>
        </Dialog>
      )}
    </>
  );
}

function Candidates({ request }: { request: RequestDetail }) {
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
        {request.candidates.map((c) => (
          <div key={c.immutableId} className={style.candidate}>
            <b>{c.location}</b>
            <dl className={style.facts}>
              <dt>Matched by</dt>
              <dd>{c.matchedBy}</dd>
              {c.attributes.map((a) => (
                <FactPair key={a.name} name={a.name} value={a.value} />
              ))}
            </dl>
            {request.rights.choose ? (
              <Button
                kind="main"
                isDisabled={choose.isPending}
                onPress={() => choose.mutate({ target: c.target, immutableId: c.immutableId })}
              >
                This one
              </Button>
            ) : null}
          </div>
        ))}
        {!request.rights.choose && <Notice title="An operator chooses" />}
      </div>
    </section>
  );
}

function FactPair({ name, value }: { name: string; value: string }) {
  return (
    <>
      <dt>{name}</dt>
      <dd>{value}</dd>
    </>
  );
}

/** The ledger entries of the request, for those who may read the ledger. */
function LedgerOf({ request }: { request: RequestDetail }) {
  const me = useMe();
  const may = me.data?.roles.some((role) => role === 'auditor' || role === 'engineer') ?? false;
  const ledger = useQuery({
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

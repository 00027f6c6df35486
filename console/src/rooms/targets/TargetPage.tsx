import { useMutation, useQuery, useQueryClient } from '@tanstack/react-query';
import { Link, useParams } from '@tanstack/react-router';
import { useState } from 'react';
import { api, ask, type Schemas, type TargetDetail } from '../../api/client';
import { Button } from '../../parts/Button';
import { count } from '../../parts/count';
import { Dialog, DialogActions } from '../../parts/Dialog';
import { Field, Labelled } from '../../parts/Field';
import { Failure, Loading, Notice } from '../../parts/Notice';
import { Pair } from '../../parts/Pair';
import { StateMark } from '../../parts/StateMark';
import { agoText, at } from '../../parts/when';
import { PersonPicker } from '../common/PersonPicker';
import style from '../common/Rooms.module.css';
import { Gives } from './Gives';
import { Hours } from './Hours';
import { Reconciliations } from './Reconciliations';
import own from './Targets.module.css';
import { eventOf, kindOf } from './words';

export function TargetPage() {
  const { name } = useParams({ from: '/shell/targets/$name' });
  const target = useQuery({
    queryKey: ['targets', 'one', name],
    queryFn: () => ask(api.GET('/api/v1/targets/{name}', { params: { path: { name } } })),
    refetchInterval: 10_000,
  });
  if (target.isPending) return <Loading what="The target" />;
  if (target.isError) return <Failure error={target.error} again={() => void target.refetch()} />;
  return <Target of={target.data} />;
}

function Target({ of }: { of: TargetDetail }) {
  const summary = of.summary;
  return (
    <>
      <header className={style.head}>
        <div className={style.title}>
          <h1>{summary.title}</h1>
          <StateMark state={summary.state} />
        </div>
        <p>
          {kindOf(summary.kind)} · {summary.address}
          {summary.security !== 'none' && ` · ${summary.security}`}
          {of.owner && (
            <>
              {' · '}
              {of.ownerId ? (
                <Link to="/people/$id" params={{ id: of.ownerId }}>
                  {of.ownerName}
                </Link>
              ) : (
                of.owner
              )}{' '}
              answers for it
            </>
          )}
        </p>
      </header>
      <div className={style.columns}>
        <div className={style.stack}>
          <Now of={summary} />
          <Hours hours={of.hours} />
          {summary.canRead && <Reconciliations of={summary} />}
          <Gives of={of} />
        </div>
        <aside className={style.stack}>
          <Facts of={of} />
          <Checked of={of} />
          <History of={of.history} />
        </aside>
      </div>
    </>
  );
}

/** How it does, and what can be done about it. */
function Now({ of }: { of: Schemas['TargetSummary'] }) {
  const queries = useQueryClient();
  const [asks, setAsks] = useState(false);
  const [runs, setRuns] = useState(false);
  const path = { params: { path: { name: of.name } } };
  const again = () => queries.invalidateQueries({ queryKey: ['targets'] });
  const check = useMutation({ mutationFn: () => ask(api.POST('/api/v1/targets/{name}/check', path)), onSettled: again });
  const resume = useMutation({ mutationFn: () => ask(api.POST('/api/v1/targets/{name}/resume', path)), onSettled: again });
  const waits =
    of.due > 0
      ? `${count(of.due, 'step waits', 'steps wait')} for it${of.oldest ? `, the oldest since ${at(of.oldest)}` : ''}.`
      : 'Nothing waits for it.';
  const title =
    of.state === 'works' ? 'It works' : of.state === 'away' ? 'It does not answer' : of.state === 'paused' ? 'It is paused' : 'How it does';
  return (
    <section className={`${style.sheet} ${style.story}`} aria-labelledby="now">
      <h2 id="now">{title}</h2>
      {of.text && <p>{of.text}</p>}
      <p className={style.quiet}>
        {waits}
        {of.running > 0 && ` ${of.running} under way.`}
        {of.failing > 0 && ` ${of.failing} ${of.failing === 1 ? 'does' : 'do'} not succeed: ${of.problem}`}
      </p>
      {check.isError && <Failure error={check.error} />}
      {resume.isError && <Failure error={resume.error} />}
      {check.data && <Notice tone={check.data.reachable ? 'good' : 'bad'} title={check.data.message} />}
      {of.mayOperate && (
        <div className={style.actions}>
          {of.kind !== 'desk' && (
            <Button kind={of.state === 'paused' ? undefined : 'main'} isDisabled={check.isPending} onPress={() => check.mutate()}>
              Check it
            </Button>
          )}
          {of.state === 'paused' ? (
            <Button kind="main" isDisabled={resume.isPending} onPress={() => resume.mutate()}>
              Let it go on
            </Button>
          ) : (
            <Button onPress={() => setAsks(true)}>Pause</Button>
          )}
          {of.due > 0 && <Button onPress={() => setRuns(true)}>Run one person now</Button>}
        </div>
      )}
      {asks && <Pause of={of} close={() => setAsks(false)} after={again} />}
      {runs && <RunOne of={of} close={() => setRuns(false)} after={again} />}
    </section>
  );
}

/** One person first: to see whether it works, before all that waits goes on. */
function RunOne({ of, close, after }: { of: Schemas['TargetSummary']; close: () => void; after: () => Promise<void> }) {
  const [person, setPerson] = useState('');
  const run = useMutation({
    mutationFn: () => ask(api.POST('/api/v1/targets/{name}/run', { params: { path: { name: of.name } }, body: { person } })),
    onSuccess: () => after(),
  });
  if (run.data)
    return (
      <Dialog title="It begins now" isOpen close={close}>
        <p>
          {count(run.data.steps, 'step', 'steps')} of {run.data.display}.
        </p>
        <ul className={style.plain}>
          {run.data.requests.map((r) => (
            <li key={r.id}>
              <Link to="/requests/$id" params={{ id: r.id }}>
                See request {r.number}
              </Link>
            </li>
          ))}
        </ul>
        <DialogActions>
          <Button onPress={close}>Done</Button>
        </DialogActions>
      </Dialog>
    );
  return (
    <Dialog title={`Run one person in ${of.title}`} isOpen close={close}>
      <form
        className={style.stack}
        onSubmit={(event) => {
          event.preventDefault();
          run.mutate();
        }}
      >
        <p>What they wait for here begins at once, also while the target is paused or left alone. Everybody else waits on.</p>
        <Labelled label="Whose steps" id="runs">
          <PersonPicker id="runs" value={person} onChange={setPerson} />
        </Labelled>
        {run.isError && <Failure error={run.error} />}
        <DialogActions>
          <Button onPress={close}>Not now</Button>
          <Button kind="main" type="submit" isDisabled={run.isPending || person.length === 0}>
            Run now
          </Button>
        </DialogActions>
      </form>
    </Dialog>
  );
}

function Pause({ of, close, after }: { of: Schemas['TargetSummary']; close: () => void; after: () => Promise<void> }) {
  const [reason, setReason] = useState('');
  const pause = useMutation({
    mutationFn: () => ask(api.POST('/api/v1/targets/{name}/pause', { params: { path: { name: of.name } }, body: { reason } })),
    onSuccess: async () => {
      await after();
      close();
    },
  });
  return (
    <Dialog title={`Pause ${of.title}?`} isOpen close={close}>
      <form
        className={style.stack}
        onSubmit={(event) => {
          event.preventDefault();
          pause.mutate();
        }}
      >
        <p>What is under way ends; nothing else begins until somebody lets it go on. Leavers wait too.</p>
        <Field label="Why; whoever waits for it reads this" value={reason} onChange={setReason} required />
        {pause.isError && <Failure error={pause.error} />}
        <DialogActions>
          <Button onPress={close}>Not now</Button>
          <Button kind="main" type="submit" isDisabled={pause.isPending}>
            Pause it
          </Button>
        </DialogActions>
      </form>
    </Dialog>
  );
}

function Facts({ of }: { of: TargetDetail }) {
  const s = of.summary;
  return (
    <section className={style.sheet} aria-labelledby="facts">
      <h2 id="facts">In figures</h2>
      <dl className={style.facts}>
        {s.canRead && (
          <Pair
            name="Accounts"
            value={
              <>
                {s.accounts.toLocaleString('en')}
                {s.nobodys > 0 && `, and ${s.nobodys} of nobody`}
              </>
            }
          />
        )}
        {s.canRead && <Pair name="Changed outside" value={s.differing > 0 ? s.differing : 'none'} />}
        <Pair name="Steps" value={`${s.due} due, ${s.waiting - s.due} for later`} />
        <Pair name="Last success" value={s.lastSuccess ? at(s.lastSuccess) : 'none yet'} />
        {s.certificateUntil && <Pair name="Certificate until" value={at(s.certificateUntil)} />}
        {s.secretUntil && <Pair name="Sign-in until" value={at(s.secretUntil)} />}
        {of.limits.map((limit) => (
          <Pair key={limit.name} name={limit.name} value={limit.value} />
        ))}
      </dl>
    </section>
  );
}

function Checked({ of }: { of: TargetDetail }) {
  if (of.checked.length === 0) return null;
  return (
    <section className={style.sheet} aria-labelledby="checked">
      <h2 id="checked">The last check</h2>
      {of.checkedAt && <p className={style.quiet}>{agoText(of.checkedAt)}; nothing is changed by it.</p>}
      <ul className={own.points}>
        {of.checked.map((point) => (
          <li key={point.what + point.text} className={point.good ? undefined : style.bad}>
            <span aria-hidden="true">{point.good ? '✓' : '✕'}</span>
            <span>
              <b>{point.what}</b>
              <span className="unseen">{point.good ? ', good' : ', not good'}</span> {point.text}
            </span>
          </li>
        ))}
      </ul>
    </section>
  );
}

function History({ of }: { of: Schemas['TargetEvent'][] }) {
  return (
    <section className={style.sheet} aria-labelledby="history">
      <h2 id="history">What became of it</h2>
      {of.length === 0 && <p className={style.quiet}>Nothing yet.</p>}
      <ul className={style.list}>
        {of.map((event) => (
          <li key={event.at + event.kind}>
            <b>{eventOf(event.kind)}</b>
            {event.text && <span>{event.text}</span>}
            <span className={style.fine}>
              {at(event.at)}
              {event.actor !== 'oikonom' && `, ${event.actor}`}
            </span>
          </li>
        ))}
      </ul>
    </section>
  );
}
